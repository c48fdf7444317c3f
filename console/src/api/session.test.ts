import { expect, it } from 'vitest';
import { codeIn } from './session';

it.each([
  ['#code=abc123', 'abc123'],
  ['#code=', undefined],
  ['#code=a/b', undefined],
  ['#routes', undefined],
  ['', undefined],
])('the code in %s is %s', (hash, code) => {
  expect(codeIn(hash)).toBe(code);
});
