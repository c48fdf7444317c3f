import type { Since } from '../api/types';
import { dayAndClock } from '../format';

/** Until when a failing route was proved, and what is different since then. */
export function SinceWhen({ since }: { since: Since }) {
  const changes = since.changes;
  return (
    <div className="mb-4">
      <p>
        Proved at {dayAndClock(since.proved_at)};{' '}
        {changes.length === 0 ? 'nothing that is known is different since then.' : 'since then:'}
      </p>
      <ul className="mt-1">
        {changes.map(({ at, what }) => (
          <li key={`${at ?? ''} ${what}`}>
            {at != null && <span className="text-muted">{dayAndClock(at)}</span>} {what}
          </li>
        ))}
      </ul>
    </div>
  );
}
