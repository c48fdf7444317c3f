/** Something that the palette finds. */
export interface Item {
  /** What it does or shows, such as "Pause tiles.moor.test". */
  title: string;
  /** What kind of thing it is. */
  kind: string;
  run: () => void;
}

/** How well a text matches: its letters in order, better at the beginnings of words and in one piece; `null`
 * when it does not. */
export function score(title: string, text: string): number | null {
  const [all, wanted] = [title.toLowerCase(), text.toLowerCase().trim()];
  if (wanted === '') return 0;
  const whole = all.indexOf(wanted);
  if (whole >= 0) {
    const begins = whole === 0 || !/[a-z0-9]/.test(all.charAt(whole - 1));
    return 1000 - whole - all.length / 100 + (begins ? 500 : 0);
  }
  let at = -1;
  let gaps = 0;
  for (const letter of wanted) {
    if (letter === ' ') continue;
    const next = all.indexOf(letter, at + 1);
    if (next < 0) return null;
    if (at >= 0) gaps += next - at - 1;
    at = next;
  }
  return 500 - gaps - all.length / 100;
}

/** The items that match best, at most so many. Those that match alike stay in their order. */
export function best(items: readonly Item[], text: string, most: number): Item[] {
  return items
    .flatMap((item) => {
      const rank = score(item.title, text);
      return rank === null ? [] : [{ item, rank }];
    })
    .sort((a, b) => b.rank - a.rank)
    .slice(0, most)
    .map(({ item }) => item);
}
