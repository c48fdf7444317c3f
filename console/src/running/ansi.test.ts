import { expect, test } from 'vitest';
import { pieces, plain } from './ansi';

const E = '\u001b';

test.each([
  ['plain', [{ text: 'plain', bold: false }]],
  [
    `${E}[32mok${E}[0m then`,
    [
      { text: 'ok', colour: 'green', bold: false },
      { text: ' then', bold: false },
    ],
  ],
  [
    `${E}[1;31mno${E}[22m!`,
    [
      { text: 'no', colour: 'red', bold: true },
      { text: '!', colour: 'red', bold: false },
    ],
  ],
  [
    `${E}[38;5;208mx${E}[38;2;1;2;3my${E}[mz`,
    [
      { text: 'x', bold: false },
      { text: 'y', bold: false },
      { text: 'z', bold: false },
    ],
  ],
  ['', []],
])('%s', (line, wanted) => {
  expect(pieces(line)).toEqual(wanted.map((piece) => ({ colour: undefined, ...piece })));
});

test('the text is found without its colours', () => {
  expect(plain(`${E}[32mgoing${E}[0m to listen`)).toBe('going to listen');
});
