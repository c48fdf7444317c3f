import { expect, test } from 'vitest';
import { best, score } from './match';

const items = [
  'Traffic',
  'Pause tiles.moor.test',
  'tiles.moor.test',
  'radio.moor.test',
  'Names',
].map((title) => ({ title, kind: '', run: () => undefined }));

test.each([
  ['tiles', ['tiles.moor.test', 'Pause tiles.moor.test']],
  ['pau til', ['Pause tiles.moor.test']],
  ['rad', ['radio.moor.test']],
  ['tfc', ['Traffic']],
  ['zzz', []],
])('%s', (text, titles) => {
  expect(best(items, text, 10).map(({ title }) => title)).toEqual(titles);
});

test('everything matches nothing, and no more than wanted is given', () => {
  expect(best(items, ' ', 2)).toEqual(items.slice(0, 2));
  expect(score('abc', 'acb')).toBeNull();
});
