import { expect, test } from 'vitest';
import { differences } from './difference';

test.each([
  ['nothing', { to: '1' }, { to: '1' }, []],
  [
    'a value',
    { to: '1', note: 'a' },
    { to: '2', note: 'a' },
    [{ key: 'to', before: '1', after: '2' }],
  ],
  [
    'a key of a group',
    { settings: { expect: { status: 200 } } },
    { settings: { expect: {} } },
    [{ key: 'settings.expect.status', before: '200', after: undefined }],
  ],
  ['something new', null, { to: '1' }, [{ key: 'to', before: undefined, after: '1' }]],
  [
    'a list',
    { names: ['a'] },
    { names: ['a', 'b'] },
    [{ key: 'names', before: 'a', after: 'a, b' }],
  ],
  [
    'several things',
    [{ address: 'a.test', to: '1' }],
    [{ address: 'a.test', to: '2' }],
    [{ key: 'a.test.to', before: '1', after: '2' }],
  ],
])('%s', (_, before, after, found) => {
  expect(differences(before, after)).toEqual(found);
});
