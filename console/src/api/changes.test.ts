import { expect, test } from 'vitest';
import { withEntries } from './changes';

test('entries of a fix are added to the lists that a route has, each once', () => {
  const action = {
    type: 'edit-route' as const,
    address: 'a.test',
    patch: { to: '2', expect: { status: 200 } },
    add: { set_headers: ['a', 'b'], 'expect.header': ['c'] },
  };
  expect(withEntries(action, { settings: { set_headers: ['a'] } })).toEqual({
    to: '2',
    set_headers: ['a', 'b'],
    expect: { status: 200, header: ['c'] },
  });
});
