import { expect, test } from 'vitest';
import type { App, Port } from '../api/types';
import { collisionsOf } from './collisions';

const app = (name: string, port: number) => ({ name, ports: { PORT: port } }) as unknown as App;
const port = (port: number, more: Partial<Port> = {}) => ({ port, own: false, ...more }) as Port;

test('two apps with one port, and a program on the port of an app', () => {
  const apps = [app('huts', 4310), app('shop', 4310), app('tiles', 4312), app('news', 4313)];
  const ports = [
    port(4310, { app: 'huts' }),
    port(4312, { process: { command: 'python3', pid: 77 } as Port['process'] }),
    port(9000),
  ];
  expect(collisionsOf(apps, ports)).toEqual([
    { port: 4310, who: ['the app huts', 'the app shop'] },
    { port: 4312, who: ['the app tiles', 'python3 (77)'] },
  ]);
});
