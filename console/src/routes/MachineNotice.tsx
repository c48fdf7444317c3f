import type { Machine } from '../api/types';
import { sentence } from '../format';
import { Prose } from '../shared/Prose';
import { CopyLine } from '../shared/CopyLine';
import { pagePath } from '../state/place';

/** What keeps this machine's programs from the routes, and what fixes it; nothing when nothing does. */
export function MachineNotice({ machine }: { machine: Machine | undefined }) {
  const failed = machine?.items.filter((item) => item.state === 'failed') ?? [];
  if (failed.length === 0) return null;
  const fixes = new Map(failed.map(({ fix }) => [fix?.command ?? fix?.text, fix]));
  const parts = [...new Set(failed.map(({ part }) => part))].join(' and ');
  return (
    <details
      aria-label="This machine"
      className="mb-3 rounded-md border border-l-4 border-rule border-l-vermilion bg-card px-3 py-1.5 text-[14px]"
    >
      <summary className="cursor-pointer">
        <span className="font-semibold">This machine does not reach the routes yet</span>
        <span className="text-muted">
          {' '}
          · {parts}: {failed.length} {failed.length === 1 ? 'thing is' : 'things are'} missing
        </span>
      </summary>
      <ul className="mt-1">
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
            <div key={fix.text} className="mt-1.5">
              <p>
                <Prose text={sentence(fix.text)} />
              </p>
              {fix.command != null && <CopyLine text={fix.command} />}
            </div>
          ),
      )}
      <p className="my-1.5">
        <a className="underline underline-offset-4" href={pagePath('system', { tab: 'machine' })}>
          Everything that was looked at, and what would be changed
        </a>
      </p>
    </details>
  );
}
