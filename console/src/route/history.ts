import type { StateChange, Verdict } from '../api/types';

/** A time during which a route was in one state. */
export interface Span {
  state: 'passing' | 'broken' | 'flapping';
  /** Where it begins and ends, from 0 to 1 of the strip. */
  from: number;
  until: number;
  /** When it began. */
  at: string;
}

/** What the strip shows, from so long ago until now. */
export const STRIP_HOURS = 24;
const HOUR_MS = 3_600_000;

/** The colour of each state. */
export const FILLS: Record<Span['state'], string> = {
  passing: 'var(--teal)',
  broken: 'var(--vermilion)',
  flapping: 'var(--amber)',
};

/** The states of a route over the last day, oldest first; `changes` are those of its state, oldest first. */
export function spans(changes: readonly StateChange[], now: number): Span[] {
  const start = now - STRIP_HOURS * HOUR_MS;
  const at = (moment: number) => Math.min(Math.max((moment - start) / (now - start), 0), 1);
  const laid: Span[] = [];
  changes.forEach((change, place) => {
    const next = changes[place + 1];
    const until = next === undefined ? 1 : at(Date.parse(next.at));
    const state = stateOf(change);
    const before = laid.at(-1);
    if (until <= 0) return;
    if (before?.state === state) before.until = until;
    else laid.push({ state, from: at(Date.parse(change.at)), until, at: change.at });
  });
  return laid;
}

/** The spans in words, for screen readers. */
export function inWords(laid: readonly Span[]): string {
  return laid.length === 0 ? 'nothing known' : laid.map(({ state }) => state).join(', then ');
}

/** The state of a route in a word. */
export function stateOf({ passed, flapping }: Pick<Verdict, 'passed' | 'flapping'>): Span['state'] {
  if (flapping) return 'flapping';
  return passed ? 'passing' : 'broken';
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
