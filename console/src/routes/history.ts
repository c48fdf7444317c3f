import type { Verdict } from '../api/types';

/** A time during which a route was in one state. */
export interface Span {
  state: 'passing' | 'broken' | 'flapping';
  /** Where it begins and ends, from 0 to 1 of the strip. */
  from: number;
  until: number;
  verdict: Verdict;
}

/** What the strip shows, from so long ago until now. */
export const STRIP_HOURS = 24;
const HOUR_MS = 3_600_000;

/** The states of a route over the last day, oldest first; `verdicts` are its changes, newest first. */
export function spans(verdicts: readonly Verdict[], now: number): Span[] {
  const start = now - STRIP_HOURS * HOUR_MS;
  const at = (moment: number) => Math.min(Math.max((moment - start) / (now - start), 0), 1);
  const changes = [...verdicts].reverse();
  return changes
    .map((verdict, place) => {
      const next = changes[place + 1];
      return {
        state: stateOf(verdict),
        from: at(Date.parse(verdict.checked_at)),
        until: next === undefined ? 1 : at(Date.parse(next.checked_at)),
        verdict,
      };
    })
    .filter((span) => span.until > 0);
}

/** The state of a route in a word. */
export function stateOf(verdict: Verdict): Span['state'] {
  if (verdict.flapping) return 'flapping';
  return verdict.passed ? 'passing' : 'broken';
}

/** What a change was, in words. */
export function changeOf(verdict: Verdict): string {
  const worst = verdict.findings.find((finding) => finding.severity === 'error');
  if (worst !== undefined) return `${worst.hop}: ${worst.summary}`;
  const warning = verdict.findings.find((finding) => finding.severity === 'warning');
  return warning === undefined
    ? 'every hop passes'
    : `every hop passes; warning: ${warning.summary}`;
}
