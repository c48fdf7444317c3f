import { expect, test } from 'vitest';
import type { Route, Verdict } from '../api/types';
import type { GroupBy } from './listing';
import { linesOf, zoneOf } from './listing';

const route = (address: string, passed: boolean | undefined, more: Partial<Route> = {}) =>
  ({
    address,
    name: address,
    to: '4310',
    settings: {},
    verdict: passed === undefined ? undefined : { passed, hops: [], findings: [] },
    ...more,
  }) as unknown as Route;

const ROUTES = [
  route('a.moor.test', true, { project: '/huts/bentlane.toml' }),
  route('b.moor.test', undefined),
  route('c.fell.test', true, { of_container: 'tiles', to: 'container:tiles' }),
  route('d.moor.test', false, { project: '/huts/bentlane.toml' }),
  route('e.moor.test', true, { verdict: warned() }),
];

function warned(): Verdict {
  return { passed: true, hops: [], findings: [{ severity: 'warning', slug: 'x' }] } as never;
}

const shown = (text: string, by: GroupBy) =>
  linesOf(ROUTES, text, by, ['moor.test', 'fell.test'], true).map((line) =>
    line.type === 'group' ? `# ${line.title}` : line.route.address,
  );

test.each<[string, GroupBy, string[]]>([
  ['', 'none', ['d.moor.test', 'e.moor.test', 'a.moor.test', 'b.moor.test', 'c.fell.test']],
  [
    '',
    'zone',
    [
      '# moor.test',
      'd.moor.test',
      'e.moor.test',
      'a.moor.test',
      'b.moor.test',
      '# fell.test',
      'c.fell.test',
    ],
  ],
  ['broken', 'none', ['d.moor.test']],
  ['MOOR proved', 'none', ['e.moor.test', 'a.moor.test']],
  ['container', 'project', ['# Containers, by label', 'c.fell.test']],
  ['nothing of the kind', 'project', []],
])('the text %j, grouped by %s', (text, by, lines) => {
  expect(shown(text, by)).toEqual(lines);
});

test('groups in which something is broken come first', () => {
  const titles = shown('', 'project').filter((line) => line.startsWith('#'));
  expect(titles).toEqual(['# /huts/bentlane.toml', '# Added by hand', '# Containers, by label']);
});

test.each([
  ['*.hut.moor.test', 'hut.moor.test'],
  ['moor.test', 'moor.test'],
  ['xmoor.test', undefined],
])('the zone of %s is %s', (name, zone) => {
  expect(zoneOf(name, ['moor.test', 'hut.moor.test'])).toBe(zone);
});
