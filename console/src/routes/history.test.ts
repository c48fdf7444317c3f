import { expect, it } from 'vitest';
import type { Verdict } from '../api/types';
import { placeOf, routePath } from '../state/usePage';
import { changeOf, spans } from './history';

const NOW = Date.parse('2026-05-04T12:00:00Z');

function verdict(checked_at: string, passed: boolean, flapping = false): Verdict {
  const finding = { hop: 'connect', severity: 'error', summary: 'nothing listens' };
  return { checked_at, passed, flapping, findings: passed ? [] : [finding] } as unknown as Verdict;
}

it('lays the changes of a day out', () => {
  const changes = [
    verdict('2026-05-04T06:00:00Z', true),
    verdict('2026-05-04T00:00:00Z', false),
    verdict('2026-05-01T00:00:00Z', true),
  ];
  const laid = spans(changes, NOW).map(({ state, from, until }) => [state, from, until]);
  expect(laid).toEqual([
    ['passing', 0, 0.5],
    ['broken', 0.5, 0.75],
    ['passing', 0.75, 1],
  ]);
});

it('leaves out what was over before', () => {
  const changes = [verdict('2026-05-02T00:00:00Z', true), verdict('2026-05-01T00:00:00Z', false)];
  expect(spans(changes, NOW).map((span) => span.state)).toEqual(['passing']);
});

it('tells what changed', () => {
  expect(changeOf(verdict('', false))).toBe('connect: nothing listens');
  expect(changeOf(verdict('', true))).toBe('every hop passes');
  expect(spans([verdict('2026-05-04T06:00:00Z', false, true)], NOW)[0]?.state).toBe('flapping');
});

it('finds the route that an address names', () => {
  const address = '*.hut.moor.test/api';
  expect(placeOf(routePath(address))).toEqual({ page: 'routes', route: address });
  expect(placeOf('#names')).toEqual({ page: 'names' });
  expect(placeOf('#route/%')).toEqual({ page: 'routes' });
});
