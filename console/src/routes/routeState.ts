import type { Route, Verdict } from '../api/types';
import type { Tone } from '../shared/StateMark';

/** How a route is: for a mark, in words, and how soon one wants to see it. */
export interface RouteState {
  tone: Tone;
  word: string;
  /** Lower is more urgent. */
  rank: number;
}

/** The state of a route. One whose lane is whole is proved where this machine reaches it (`reached`), and
 * ready where it does not. */
export function routeState(
  { settings, verdict }: Pick<Route, 'settings' | 'verdict'>,
  reached: boolean,
): RouteState {
  if (settings.paused === true) return { tone: 'paused', word: 'paused', rank: 5 };
  if (verdict == null) return { tone: 'idle', word: 'being checked', rank: 4 };
  if (verdict.flapping === true) return { tone: 'uncertain', word: 'flapping', rank: 1 };
  const broken = verdict.hops.find(({ state }) => state === 'broken');
  if (!verdict.passed) {
    return { tone: 'bad', word: `broken at ${broken?.hop ?? 'a hop'}`, rank: 0 };
  }
  if (verdict.hops.some(({ state }) => state === 'not-tried')) {
    const starts = verdict.findings.some(({ slug }) => slug.endsWith('-starting'));
    return starts
      ? { tone: 'waiting', word: 'starting', rank: 3 }
      : { tone: 'idle', word: 'stopped until a visit', rank: 4 };
  }
  const warnings = verdict.findings.filter(({ severity }) => severity === 'warning').length;
  const word = reached ? 'proved' : 'ready';
  if (warnings === 0) return { tone: reached ? 'good' : 'ready', word, rank: 4 };
  const noun = warnings === 1 ? 'warning' : 'warnings';
  return { tone: reached ? 'good' : 'ready', word: `${word}, ${warnings} ${noun}`, rank: 2 };
}

/** How long the answer took, in microseconds. */
export function answerTime(verdict: Verdict | null | undefined): number | undefined {
  return verdict?.hops.find(({ hop }) => hop === 'answer')?.micros ?? undefined;
}
