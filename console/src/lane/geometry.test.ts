import { expect, it } from 'vitest';
import type { Hop, HopReport, HopState } from '../api/types';
import { LARGE, inWords, layOut } from './geometry';

const HOPS: Hop[] = ['resolve', 'handshake', 'connect', 'answer', 'expect'];

function hops(...states: HopState[]): HopReport[] {
  return states.map((state, i) => ({ hop: HOPS[i] ?? 'answer', state, detail: '' }));
}

it('is straight while every hop passes', () => {
  const marks = layOut(hops('passed', 'passed', 'passed', 'passed'), LARGE);
  expect(new Set(marks.map((mark) => mark.y)).size).toBe(1);
  expect(marks.map((mark) => mark.way !== undefined)).toEqual([false, true, true, true]);
});

it('bends away from the hop that broke', () => {
  const marks = layOut(hops('passed', 'broken', 'not-reached', 'not-reached'), LARGE);
  const [first, broken, beyond, last] = marks;
  expect(broken?.y).toBe(first?.y);
  expect(beyond?.y).toBeGreaterThan(broken?.y ?? 0);
  expect(beyond?.way).toContain('L');
  expect(last?.way).not.toContain('L');
  expect(marks.map((mark) => mark.wayState)).toEqual([
    'passed',
    'broken',
    'not-reached',
    'not-reached',
  ]);
});

it('can be read aloud', () => {
  expect(inWords(hops('passed', 'broken'))).toBe('resolve passed, handshake broken');
  const open = hops('passed', 'passed', 'passed', 'passed', 'not-declared');
  expect(inWords(open)).toMatch(/expect not declared$/);
});
