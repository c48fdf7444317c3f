import { describe, expect, it } from 'vitest';
import type { Route, Verdict } from './api/types';
import {
  browserName,
  duration,
  inOneLine,
  leadsTo,
  bytes,
  perSecond,
  resolvesTo,
  sentence,
  share,
  summary,
  totalOf,
} from './format';

describe('duration', () => {
  it.each([
    [0, '0 µs'],
    [999, '999 µs'],
    [1_000, '1.0 ms'],
    [9_999, '9.9 ms'],
    [10_000, '10 ms'],
    [999_999, '999 ms'],
    [2_340_000, '2.3 s'],
    [600_000_000, '10 min'],
  ])('%i is %s', (micros, text) => {
    expect(duration(micros)).toBe(text);
  });
});

describe('bytes', () => {
  it.each([
    [0, '0 B'],
    [1_024, '1.0 kB'],
    [5_300_000, '5.3 MB'],
    [2_000_000_000, '2.0 GB'],
  ])('%i is %s', (count, text) => {
    expect(bytes(count)).toBe(text);
  });
});

it('says how often something happens', () => {
  expect([312.4, 3.14, 0.0123].map(perSecond)).toEqual(['312', '3.1', '< 0.1']);
});

it('adds the steps of an exchange', () => {
  expect(totalOf({ queue_us: 1, first_byte_us: 20, last_byte_us: 300 })).toBe(321);
  expect(totalOf({ queue_us: 1, connect_us: 4_000, first_byte_us: 20, last_byte_us: 300 })).toBe(
    4_321,
  );
});

describe('summary', () => {
  const route = (passed?: boolean, stopped = false): Route => ({
    address: 'a.test',
    name: 'a.test',
    prefix: '/',
    to: '1',
    url: '',
    resolves_to: [],
    values: { origin: '', callback_base: '', host: '', port: 443 },
    settings: {},
    verdict:
      passed === undefined
        ? undefined
        : ({ passed, hops: stopped ? [{ state: 'not-tried' }] : [] } as unknown as Verdict),
  });

  it.each([
    [[], true, 'no route yet'],
    [[route(true)], true, '1 route, every hop proved'],
    [[route(true)], false, '1 route: 1 ready'],
    [[route(true), route(true, true)], true, '2 routes: 1 proved, 1 stopped until a visit'],
    [[route(true), route(false)], true, '2 routes: 1 proved, 1 broken'],
    [[route(), route(false)], true, '2 routes: 1 broken, 1 being checked'],
  ])('case %#', (routes, reached, text) => {
    expect(summary(routes, reached)).toBe(text);
  });
});

it('says where a route leads', () => {
  expect(leadsTo('app:huts')).toBe('leads to the app huts');
  expect(leadsTo('4310')).toBe('leads to port 4310');
  expect(leadsTo('http://box:80')).toBe('leads to http://box:80');
  expect(leadsTo('folder:/docs')).toBe('answers with the files of /docs');
  expect(leadsTo('redirect:https://a.test')).toBe('redirects to https://a.test');
});

it('makes sentences', () => {
  expect(sentence('nothing listens')).toBe('Nothing listens.');
  expect(sentence('')).toBe('');
});

it.each([
  [{ ttl: 10, answers: 'every-name' } as const, 'this machine'],
  [{ ttl: 10, answers: 'every-name', ipv4: '10.0.0.1', ipv6: null } as const, '10.0.0.1'],
  [
    { ttl: 10, answers: 'routed-names', ipv4: '10.0.0.1', ipv6: 'fd00::1' } as const,
    '10.0.0.1 and fd00::1, names of routes and records alone',
  ],
])('says where names lead', (settings, words) => {
  expect(resolvesTo(settings)).toBe(words);
});

it.each([
  [
    'Mozilla/5.0 (X11; Linux x86_64) AppleWebKit/537.36 Chrome/156.0 Safari/537.36',
    'Chromium or Chrome',
  ],
  ['Mozilla/5.0 (X11; Linux x86_64; rv:140.0) Gecko/20100101 Firefox/140.0', 'Firefox'],
  ['curl/8.5', 'curl/8.5'],
])('%s is %s', (agent, name) => {
  expect(browserName(agent)).toBe(name);
});

it('puts advice in one line', () => {
  const advice = [
    { slug: 'single-label', reason: 'it is short', better: 'moor.test', needs_consent: false },
  ] as const;
  expect(inOneLine(advice)).toBe('Note: it is short; moor.test would be better');
  expect(inOneLine([])).toBeUndefined();
});

describe('share', () => {
  const [start, end] = ['2026-05-04T00:00:00Z', '2026-05-14T00:00:00Z'];
  it.each([
    [start, end, '2026-05-09T00:00:00Z', 0.5],
    [start, end, '2026-05-01T00:00:00Z', 0],
    [start, end, '2026-06-01T00:00:00Z', 1],
    [end, start, '2026-05-09T00:00:00Z', 1],
    ['never', end, '2026-05-09T00:00:00Z', 1],
  ])('from %s to %s at %s is %f', (from, until, now, wanted) => {
    expect(share(from, until, Date.parse(now))).toBe(wanted);
  });
});
