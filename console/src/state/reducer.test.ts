import { expect, it } from 'vitest';
import type { Route, Verdict } from '../api/types';
import type { ConsoleState } from './reducer';
import { initial, reduce } from './reducer';

function route(address: string, passed?: boolean): Route {
  const verdict = passed === undefined ? undefined : verdictOf(address, passed);
  const values = { origin: '', callback_base: '', host: address, port: 443 };
  const known = { address, name: address, prefix: '/', to: '1', settings: {}, url: '', values };
  return { ...known, resolves_to: [], verdict };
}

function verdictOf(address: string, passed: boolean): Verdict {
  return { address, passed } as Verdict;
}

function shown(state: ConsoleState): string[] {
  return state.known.status === 'ready' ? state.known.routes.map((route) => route.address) : [];
}

const loaded = reduce(initial, {
  type: 'loaded',
  routes: [route('c.test', true), route('b.test', false), route('a.test')],
  zones: [],
});

it('shows broken routes first', () => {
  expect(shown(loaded)).toEqual(['b.test', 'a.test', 'c.test']);
});

it('takes verdicts in as they come, and orders anew', () => {
  const verdicts = [verdictOf('b.test', true), verdictOf('gone.test', false)];
  const next = reduce(loaded, { type: 'verdicts', verdicts });
  expect(shown(next)).toEqual(['a.test', 'b.test', 'c.test']);
});

it('keeps what it shows when the service is away', () => {
  const next = reduce(loaded, { type: 'failed', message: 'away' });
  expect(shown(next)).toEqual(shown(loaded));
  expect(next.connection).toBe('lost');
});

it('says what failed when there is nothing to show', () => {
  const next = reduce(initial, { type: 'failed', message: 'away' });
  expect(next.known).toEqual({ status: 'failed', message: 'away' });
});

it('ignores verdicts before the routes are known', () => {
  expect(reduce(initial, { type: 'verdicts', verdicts: [] })).toBe(initial);
});
