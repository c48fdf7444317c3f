import { expect, test } from 'vitest';
import { partsOf } from './timing';

test('the parts follow each other and make up the whole', () => {
  const parts = partsOf({ queue_us: 100, connect_us: 300, first_byte_us: 500, last_byte_us: 100 });
  expect(parts.map(({ from, share }) => [from, share])).toEqual([
    [0, 0.1],
    [0.1, 0.3],
    [0.4, 0.5],
    [0.9, 0.1],
  ]);
});

test('a connection that was there already took no time', () => {
  const parts = partsOf({ queue_us: 0, first_byte_us: 0, last_byte_us: 0 });
  expect(parts.map(({ title }) => title)).not.toContain('Connecting');
});
