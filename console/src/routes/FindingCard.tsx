import { CopyLine } from '../CopyLine';
import type { Finding } from '../api/types';
import { sentence } from '../format';

const WORDS = { error: 'Error', warning: 'Warning', hint: 'Hint' } as const;
const LOOKS = {
  error: 'border-l-vermilion',
  warning: 'border-l-amber',
  hint: 'border-l-rule',
} as const;

/** What is wrong with a route, and what fixes it. */
export function FindingCard({ finding }: { finding: Finding }) {
  return (
    <div
      className={`mt-3 rounded-md border border-rule border-l-4 bg-card px-4 py-3 ${LOOKS[finding.severity]}`}
      data-slug={finding.slug}
    >
      <p className="text-[14px] text-muted">
        {WORDS[finding.severity]} at {finding.hop}
      </p>
      <p className="font-semibold text-balance">{sentence(finding.summary)}</p>
      {finding.evidence.length > 0 && (
        <ul className="mt-1 font-mono text-[13px] text-muted">
          {finding.evidence.map((line) => (
            <li key={line}>{line}</li>
          ))}
        </ul>
      )}
      <p className="mt-2">{sentence(finding.fix.text)}</p>
      {finding.fix.command != null && <CopyLine text={finding.fix.command} />}
    </div>
  );
}
