import { expect, test } from 'vitest';
import { columnsOf, describe } from './series';

const point = (at: string, exchanges: number, errors = 0) => ({
  at,
  exchanges,
  errors,
  p50_us: 1000,
  p95_us: 2000,
  p99_us: 3000,
});

test('a span without requests has a rate and no times', () => {
  const points = [point('1970-01-01T00:00:10Z', 20, 5), point('1970-01-01T00:00:20Z', 0)];
  const [times, rates, errors, p50] = columnsOf({ seconds: 10, points });
  expect(times).toEqual([10, 20]);
  expect(rates).toEqual([2, 0]);
  expect(errors).toEqual([0.5, 0]);
  expect(p50).toEqual([1000, null]);
  expect(describe({ seconds: 10, points })).toBe(
    '20 requests, 5 errors; at most 2.0 per second, the slowest p99 3.0 ms.',
  );
  expect(describe({ seconds: 10, points: [] })).toBe('Nothing passed in this time.');
});
