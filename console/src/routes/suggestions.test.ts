import { expect, test } from 'vitest';
import type { App, Port } from '../api/types';
import { suggestedTargets } from './suggestions';

const port = (port: number, more: Partial<Port> = {}): Port => ({
  port,
  addresses: ['127.0.0.1'],
  user: 'rosa',
  protocol: 'http',
  routes: [],
  own: false,
  ...more,
});
const app = (name: string, routes: App['routes'] = []) =>
  ({ name, settings: { command: `run ${name}` }, routes }) as unknown as App;

test('what has no route yet comes first, and ports of apps are not named twice', () => {
  const route = { address: 'huts.moor.test', url: 'https://huts.moor.test/' };
  const suggested = suggestedTargets(
    [app('huts', [route]), app('shop')],
    [
      port(4310, { title: 'Highmoor' }),
      port(4311, { app: 'shop' }),
      port(5432, { protocol: 'other' }),
      port(17443, { own: true }),
      port(4312, { routes: ['api.moor.test'] }),
    ],
  );
  expect(suggested).toEqual([
    { to: 'app:shop', about: 'run shop' },
    { to: '4310', about: 'Highmoor' },
    { to: 'app:huts', about: 'run huts' },
    { to: '4312', about: '' },
  ]);
});
