import type { HopReport, HopState } from '../api/types';

/** Where a hop's mark is, and the way that leads to it. */
export interface Mark {
  hop: HopReport;
  x: number;
  y: number;
  /** The path from the mark before; absent for the first. */
  way?: string;
  /** How the way is drawn: as the hop that it leads to came out. */
  wayState: HopState;
}

const LEFT = 44;
const STEP = 92;
const UPPER = 14;
const LOWER = 42;
/** From a mark's centre to where its way begins. */
const GAP = 12;

export const WIDTH = LEFT * 2 + STEP * 4;
/** From the lowest mark's centre to the end of its caption. */
const BELOW = 42;

/** The states of a hop, in words. */
export const STATES: Record<HopState, string> = {
  passed: 'passed',
  broken: 'broken',
  'not-reached': 'not reached',
  'not-declared': 'not declared',
};

/** Lays the lane out: straight while hops pass, bending away from the one that broke. */
export function layOut(hops: readonly HopReport[]): Mark[] {
  return hops.map((hop, column) => {
    const [x, y] = place(hops, column);
    if (column === 0) return { hop, x, y, wayState: hop.state };
    const [fromX, fromY] = place(hops, column - 1);
    const [start, end] = [fromX + GAP, x - GAP];
    const way =
      fromY === y
        ? `M${start} ${fromY}H${end}`
        : `M${start} ${fromY}H${start + 16}L${end - 16} ${y}H${end}`;
    return { hop, x, y, way, wayState: hop.state };
  });
}

/** How high the drawing is: a straight lane needs less than one that bends. */
export function height(hops: readonly HopReport[]): number {
  return BELOW + Math.max(UPPER, ...hops.map((_, column) => place(hops, column)[1]));
}

function place(hops: readonly HopReport[], column: number): [number, number] {
  return [LEFT + column * STEP, hops[column]?.state === 'not-reached' ? LOWER : UPPER];
}

/** The lane in words, for screen readers. */
export function inWords(hops: readonly HopReport[]): string {
  return hops.map((hop) => `${hop.hop} ${STATES[hop.state]}`).join(', ');
}
