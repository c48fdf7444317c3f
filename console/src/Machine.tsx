import type { Machine as Seen } from './api/types';
import { CopyLine } from './CopyLine';
import { sentence } from './format';

/** What keeps this machine's programs from the routes, and what fixes it; nothing when nothing does. */
export function Machine({ machine }: { machine: Seen | undefined }) {
  const failed = machine?.items.filter((item) => item.state === 'failed') ?? [];
  if (failed.length === 0) return null;
  const fixes = new Map(failed.map(({ fix }) => [fix?.command ?? fix?.text, fix]));
  return (
    <section
      aria-label="This machine"
      className="mt-6 rounded-md border border-l-4 border-rule border-l-vermilion bg-card px-4 py-3"
    >
      <h2 className="font-semibold">This machine does not reach the routes yet</h2>
      <ul className="mt-1 text-[15px]">
        {failed.map((item) => (
          <li key={`${item.part} ${item.subject}`}>
            <span className="text-muted">{item.part}</span>{' '}
            <span className="font-semibold">{item.subject}</span> {item.summary}
          </li>
        ))}
      </ul>
      {[...fixes.values()].map(
        (fix) =>
          fix != null && (
            <div key={fix.text} className="mt-2">
              <p>{sentence(fix.text)}</p>
              {fix.command != null && <CopyLine text={fix.command} />}
            </div>
          ),
      )}
    </section>
  );
}
