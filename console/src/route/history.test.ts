import { expect, it } from 'vitest';
import type { StateChange, Verdict } from '../api/types';
import { changeOf, inWords, spans, stateOf } from './history';

const NOW = Date.parse('2026-05-04T12:00:00Z');

const change = (at: string, passed: boolean, flapping = false): StateChange => ({
  at,
  passed,
  flapping,
});

it('lays the changes of a day out', () => {
  const changes = [
    change('2026-05-01T00:00:00Z', true),
    change('2026-05-04T00:00:00Z', false),
    change('2026-05-04T03:00:00Z', false),
    change('2026-05-04T06:00:00Z', true),
  ];
  const laid = spans(changes, NOW);
  expect(laid.map(({ state, from, until }) => [state, from, until])).toEqual([
    ['passing', 0, 0.5],
    ['broken', 0.5, 0.75],
    ['passing', 0.75, 1],
  ]);
  expect(inWords(laid)).toBe('passing, then broken, then passing');
});

it('leaves out what was over before', () => {
  const changes = [change('2026-05-01T00:00:00Z', false), change('2026-05-02T00:00:00Z', true)];
  expect(spans(changes, NOW).map((span) => span.state)).toEqual(['passing']);
  expect(inWords(spans([], NOW))).toBe('nothing known');
});

it('says what changed', () => {
  const finding = { hop: 'connect', severity: 'error', summary: 'nothing listens' };
  expect(changeOf({ findings: [finding] } as Verdict)).toBe('connect: nothing listens');
  expect(changeOf({ findings: [] } as unknown as Verdict)).toBe('every hop passes');
  expect(stateOf(change('', false, true))).toBe('flapping');
});
