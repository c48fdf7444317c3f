import type { Timings } from '../api/types';
import { totalOf } from '../format';

/** A part of the time of a request. */
export interface TimePart {
  title: string;
  micros: number;
  /** Where it begins, and how much of the whole it is, from 0 to 1. */
  from: number;
  share: number;
}

/** Where the time of a request went, in its order. */
export function partsOf(timings: Timings): TimePart[] {
  const total = Math.max(totalOf(timings), 1);
  const steps: (readonly [string, number | null | undefined])[] = [
    ['Waiting for a turn', timings.queue_us],
    ['Connecting', timings.connect_us],
    ['Until the first byte', timings.first_byte_us],
    ['Until the last byte', timings.last_byte_us],
  ];
  let passed = 0;
  return steps.flatMap(([title, micros]) => {
    if (micros == null) return [];
    const part = { title, micros, from: passed / total, share: micros / total };
    passed += micros;
    return [part];
  });
}
