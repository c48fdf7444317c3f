// @vitest-environment jsdom
import { screen } from '@testing-library/react';
import { expect, test, vi } from 'vitest';
import type { Route, Verdict } from '../api/types';
import { show } from '../test/page';
import { RouteRow } from './RouteRow';

const VERDICT = {
  address: 'a.moor.test',
  passed: false,
  checked_at: '2026-05-04T12:00:00Z',
  hops: [
    { hop: 'resolve', state: 'passed', detail: '', micros: 900 },
    { hop: 'handshake', state: 'passed', detail: '' },
    { hop: 'connect', state: 'broken', detail: 'refused' },
    { hop: 'answer', state: 'not-reached', detail: '' },
    { hop: 'expect', state: 'not-reached', detail: '' },
  ],
  findings: [
    {
      slug: 'target-refuses',
      hop: 'connect',
      severity: 'error',
      summary: 'nothing listens',
      evidence: [],
      fix: { text: 'start the app' },
    },
    {
      slug: 'root-distrusted',
      hop: 'handshake',
      severity: 'hint',
      summary: 'not trusted',
      evidence: [],
      fix: { text: 'attach' },
    },
  ],
} as unknown as Verdict;

const ROUTE = {
  address: 'a.moor.test',
  name: 'a.moor.test',
  to: '4310',
  url: 'https://a.moor.test/',
  settings: {},
  verdict: VERDICT,
} as unknown as Route;

function row(route: Route, isOpen: boolean, onToggle = vi.fn()) {
  const parts = { route, isOpen, onToggle, changes: [], now: 0, reached: true };
  return { onToggle, ...show(<RouteRow {...parts} />, () => ({ ...route, verdicts: [] })) };
}

test('a row says how the route is, and has its actions', () => {
  row(ROUTE, false);
  screen.getByText('broken at connect');
  screen.getByRole('img', { name: /connect broken, answer not reached/ });
  screen.getByRole('img', { name: 'The last 24 hours: nothing known' });
  screen.getByRole('link', { name: 'Open a.moor.test' });
  expect(screen.queryByText('Nothing listens.')).toBeNull();
});

test('unfolded it shows what is wrong, and counts the hints', () => {
  row(ROUTE, true);
  screen.getByText('Nothing listens.');
  screen.getByText(/1 hint more/);
  expect(screen.queryByText('Not trusted.')).toBeNull();
});

test('the keys of the row act on it, and those of its buttons do not', async () => {
  const { user, calls, onToggle } = row(ROUTE, false);
  screen.getByRole('group', { name: 'a.moor.test' }).focus();
  await user.keyboard('{Enter}{ArrowRight}{ArrowLeft}');
  expect(onToggle).toHaveBeenCalledTimes(2);
  await user.keyboard('p');
  await screen.findByText('Paused a.moor.test');
  expect(calls.at(-1)?.body).toEqual({ paused: true });
  await user.keyboard('c');
  expect(calls.some(({ path }) => path === '/checks')).toBe(true);
  await user.keyboard('e');
  expect(location.hash).toBe('#route/a.moor.test?tab=settings');
  const before = calls.length;
  screen.getByRole('link', { name: 'a.moor.test' }).focus();
  await user.keyboard('p');
  expect(calls.length).toBe(before);
});

test('a route of a label cannot be changed here', async () => {
  const { user, calls } = row({ ...ROUTE, of_container: 'tiles' }, false);
  screen.getByRole('group', { name: 'a.moor.test' }).focus();
  await user.keyboard('p');
  expect(calls).toEqual([]);
});
