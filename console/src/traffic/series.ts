import type { TrafficSeries } from '../api/types';
import { duration, perSecond } from '../format';

type Values = (number | null)[];

/** The columns of a chart: times in seconds, requests and errors a second, and times in microseconds, which
 * are absent where nothing passed. */
export function columnsOf({
  seconds,
  points,
}: TrafficSeries): [number[], Values, Values, Values, Values, Values] {
  const time = (micros: number, count: number) => (count === 0 ? null : micros);
  return [
    points.map(({ at }) => Date.parse(at) / 1000),
    points.map(({ exchanges }) => exchanges / seconds),
    points.map(({ errors }) => errors / seconds),
    points.map(({ p50_us, exchanges }) => time(p50_us, exchanges)),
    points.map(({ p95_us, exchanges }) => time(p95_us, exchanges)),
    points.map(({ p99_us, exchanges }) => time(p99_us, exchanges)),
  ];
}

/** The series in words, for those who do not see the chart. */
export function describe({ seconds, points }: TrafficSeries): string {
  const count = points.reduce((sum, { exchanges }) => sum + exchanges, 0);
  const errors = points.reduce((sum, point) => sum + point.errors, 0);
  if (count === 0) return 'Nothing passed in this time.';
  const busiest = Math.max(...points.map(({ exchanges }) => exchanges)) / seconds;
  const slowest = Math.max(...points.map(({ p99_us }) => p99_us));
  return `${count} requests, ${errors} errors; at most ${perSecond(busiest)} per second, the slowest p99 ${duration(slowest)}.`;
}
