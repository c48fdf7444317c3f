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

/** The measures of a lane. */
export interface Size {
  /** From the edge to the first mark's centre. */
  left: number;
  /** From one mark to the next. */
  step: number;
  /** The heights of the way until the bend, and after it. */
  upper: number;
  lower: number;
  /** From a mark's centre to where its way begins. */
  gap: number;
  /** How far a way goes straight before and after it bends. */
  run: number;
  /** The radius of a mark. */
  mark: number;
  /** From the lowest mark's centre to the end of the drawing. */
  below: number;
}

/** In a row, without words. */
export const SMALL: Size = {
  left: 7,
  step: 20,
  upper: 6,
  lower: 15,
  gap: 5,
  run: 2,
  mark: 3,
  below: 6,
};
/** Across a page, with a caption below each mark. */
export const LARGE: Size = {
  left: 60,
  step: 176,
  upper: 22,
  lower: 78,
  gap: 20,
  run: 44,
  mark: 10,
  below: 56,
};
/** The same on a narrow screen. */
export const NARROW: Size = {
  left: 34,
  step: 70,
  upper: 14,
  lower: 42,
  gap: 12,
  run: 12,
  mark: 6,
  below: 42,
};

const HOPS = 5;

export function width({ left, step }: Size): number {
  return left * 2 + step * (HOPS - 1);
}

/** The states of a hop, in words. */
export const STATES: Record<HopState, string> = {
  passed: 'passed',
  broken: 'broken',
  'not-reached': 'not reached',
  'not-declared': 'not declared',
  'not-tried': 'not tried',
};

/** Lays the lane out: straight while hops pass, bending away from the one that broke. */
export function layOut(hops: readonly HopReport[], size: Size): Mark[] {
  return hops.map((hop, column) => {
    const [x, y] = place(hops, column, size);
    if (column === 0) return { hop, x, y, wayState: hop.state };
    const [fromX, fromY] = place(hops, column - 1, size);
    const [start, end] = [fromX + size.gap, x - size.gap];
    const way =
      fromY === y
        ? `M${start} ${fromY}H${end}`
        : `M${start} ${fromY}H${start + size.run}L${end - size.run} ${y}H${end}`;
    return { hop, x, y, way, wayState: hop.state };
  });
}

/** How high the drawing is: a straight lane needs less than one that bends. */
export function height(hops: readonly HopReport[], size: Size): number {
  const heights = hops.map((_, column) => place(hops, column, size)[1]);
  return size.below + Math.max(size.upper, ...heights);
}

function place(hops: readonly HopReport[], column: number, size: Size): [number, number] {
  const { left, step, upper, lower } = size;
  return [left + column * step, hops[column]?.state === 'not-reached' ? lower : upper];
}

/** The lane in words, for screen readers. */
export function inWords(hops: readonly HopReport[]): string {
  return hops.map((hop) => `${hop.hop} ${STATES[hop.state]}`).join(', ');
}
