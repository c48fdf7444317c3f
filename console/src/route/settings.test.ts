import { expect, it } from 'vitest';
import type { Route } from '../api/types';
import {
  SETTINGS,
  entered,
  mergePatches,
  nameOf,
  patchOf,
  settingsByTopic,
  shown,
  titleOf,
  valueOf,
} from './settings';

const named = (name: string) => {
  const found = SETTINGS.find((setting) => nameOf(setting) === name);
  if (found === undefined) throw new Error(`there is no setting ${name}`);
  return found;
};

it.each([
  ['note', ' the shop ', 'the shop', { note: 'the shop' }],
  ['note', '  ', null, { note: null }],
  ['expect.status', '404', 404, { expect: { status: 404 } }],
  ['expect.status', 'all', 'all', { expect: { status: 'all' } }],
  ['strip_prefix', 'true', true, { strip_prefix: true }],
  [
    'allow_origins',
    'https://a.test\n\n https://b.test',
    ['https://a.test', 'https://b.test'],
    null,
  ],
])('makes a patch of %s from %j', (name, text, value, patch) => {
  const setting = named(name);
  expect(entered(setting, text)).toEqual(value);
  if (patch !== null) expect(patchOf(setting, entered(setting, text))).toEqual(patch);
});

it('shows the values that a route has', () => {
  const settings = { note: 'the shop', expect: { status: 404 }, keep_path: false };
  const route = { settings } as unknown as Route;
  expect(shown(valueOf(route, named('note')))).toBe('the shop');
  expect(shown(valueOf(route, named('expect.status')))).toBe('404');
  expect(shown(valueOf(route, named('keep_path')))).toBe('false');
  expect(valueOf(route, named('paused'))).toBeUndefined();
  expect(shown(['a', 'b'])).toBe('a\nb');
});

it('has every setting under one topic', () => {
  const listed = settingsByTopic().flatMap(({ settings }) => settings.map(nameOf));
  expect([...listed].sort()).toEqual(SETTINGS.map(nameOf).sort());
  expect(titleOf(named('expect.status'))).toBe('Expect: status');
});

it('patches of one group are merged', () => {
  const patches = [{ note: null }, { expect: { status: 404 } }, { expect: { header: ['a'] } }];
  expect(mergePatches(patches)).toEqual({ note: null, expect: { status: 404, header: ['a'] } });
});
