import { expect, test } from 'vitest';
import type { Place } from './place';
import { hashOf, placeOf, withParams } from './place';

test.each<[string, Place]>([
  ['', { page: 'routes', params: {} }],
  ['#names', { page: 'names', params: {} }],
  ['#nowhere?text=a', { page: 'routes', params: {} }],
  ['#route/%', { page: 'routes', params: {} }],
  ['#routes?text=a+b%26c', { page: 'routes', params: { text: 'a b&c' } }],
  [
    '#route/*.hut.moor.test%2Fapi?tab=requests',
    { page: 'route', subject: '*.hut.moor.test/api', params: { tab: 'requests' } },
  ],
])('%s', (hash, place) => {
  expect(placeOf(hash)).toEqual(place);
});

test('the address of a place leads there', () => {
  const place: Place = { page: 'route', subject: 'a.moor.test:5432', params: { text: '50 %&?#' } };
  expect(placeOf(hashOf(place))).toEqual(place);
});

test('empty parameters are left out', () => {
  expect(withParams({ text: 'a', by: 'zone' }, { text: '', add: '4310' })).toEqual({
    by: 'zone',
    add: '4310',
  });
});
