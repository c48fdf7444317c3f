/** A piece of text in one colour. */
export interface Piece {
  text: string;
  /** The name of its colour; absent for the usual one. */
  colour?: Colour;
  bold?: boolean;
}

export type Colour = 'red' | 'green' | 'yellow' | 'blue' | 'magenta' | 'cyan' | 'grey';

/** The colours by their numbers, both in their usual form and in their bright one (ECMA-48 §8.3.117). */
const COLOURS: Record<number, Colour | undefined> = {
  30: undefined,
  31: 'red',
  32: 'green',
  33: 'yellow',
  34: 'blue',
  35: 'magenta',
  36: 'cyan',
  37: undefined,
  39: undefined,
  90: 'grey',
  91: 'red',
  92: 'green',
  93: 'yellow',
  94: 'blue',
  95: 'magenta',
  96: 'cyan',
  97: undefined,
};

// eslint-disable-next-line no-control-regex -- that is how they begin
const SEQUENCE = /\u001b\[([0-9;:]*)m/;

/** Takes a line of output apart by its colours. */
export function pieces(line: string): Piece[] {
  const parts = line.split(SEQUENCE);
  const found: Piece[] = [];
  let colour: Colour | undefined;
  let bold = false;
  parts.forEach((part, place) => {
    if (place % 2 === 0) {
      if (part !== '') found.push({ text: part, colour, bold });
      return;
    }
    const numbers = part.split(';').map(Number);
    for (let at = 0; at < numbers.length; at += 1) {
      const number = numbers[at] ?? 0;
      if (number === 0) [colour, bold] = [undefined, false];
      else if (number === 1) bold = true;
      else if (number === 22) bold = false;
      // A colour of 256 or more takes further numbers.
      else if (number === 38 || number === 48) at += numbers[at + 1] === 5 ? 2 : 4;
      else if (number in COLOURS) colour = COLOURS[number];
    }
  });
  return found;
}

/** The text without its colours. */
export function plain(line: string): string {
  return line
    .split(SEQUENCE)
    .filter((_, place) => place % 2 === 0)
    .join('');
}
