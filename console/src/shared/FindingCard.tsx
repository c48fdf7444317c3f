import type { Finding } from '../api/types';
import { canCarryOut, carryOut } from '../api/changes';
import { sentence } from '../format';
import { useChange } from '../state/useChange';
import { Button } from './Button';
import { CopyLine } from './CopyLine';
import { Prose } from './Prose';

const WORDS = { error: 'Error', warning: 'Warning', hint: 'Hint' } as const;
const LOOKS = {
  error: 'border-l-vermilion',
  warning: 'border-l-amber',
  hint: 'border-l-muted',
} as const;

/** What is wrong, and what fixes it: to copy, or to carry out here. */
export function FindingCard({ finding }: { finding: Finding }) {
  const { fix } = finding;
  return (
    <div
      className={`rounded-md border border-l-4 border-rule bg-card px-3 py-2 ${LOOKS[finding.severity]}`}
      data-slug={finding.slug}
    >
      <p className="text-[13px] text-muted">
        {WORDS[finding.severity]} at {finding.hop} · <code>{finding.slug}</code>
      </p>
      <p className="font-semibold text-balance">
        <Prose text={sentence(finding.summary)} />
      </p>
      {finding.evidence.length > 0 && (
        <ul className="mt-1 max-h-56 overflow-y-auto font-mono text-[13px] text-muted">
          {finding.evidence.map((line, at) => (
            <li key={at} className="break-words whitespace-pre-wrap">
              {line}
            </li>
          ))}
        </ul>
      )}
      <p className="mt-1.5">
        <Prose text={sentence(fix.text)} />
      </p>
      <div className="flex flex-wrap items-center gap-2">
        {fix.command != null && (
          <div className="max-w-full min-w-0">
            <CopyLine text={fix.command} />
          </div>
        )}
        {fix.action != null && canCarryOut(fix.action) && <CarryOut finding={finding} />}
      </div>
    </div>
  );
}

function CarryOut({ finding: { fix, summary } }: { finding: Finding }) {
  const change = useChange();
  const { action } = fix;
  if (action == null) return null;
  const ofAppOrRoot = action.type === 'start-app' || action.type === 'rotate-authority';
  return (
    <Button
      kind="primary"
      disabled={change.isPending}
      onClick={() =>
        change.mutate({
          done: `Fixed: ${summary}`,
          make: (key) => carryOut(action, key),
          isFinal: ofAppOrRoot,
        })
      }
    >
      {change.isPending ? 'Fixing …' : 'Fix it'}
    </Button>
  );
}
