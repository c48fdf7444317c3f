import { expect, test } from 'vitest';
import { portsOf, stateOf } from './containers';

test('published ports come first, each once, and exposed ones after them', () => {
  const published = [
    [80, '127.0.0.1:8080'],
    [80, '[::1]:8080'],
    [443, '127.0.0.1:8443'],
  ] as unknown as Parameters<typeof portsOf>[0]['published'];
  expect(portsOf({ published, exposed: [80, 9000] })).toBe('8080 to 80, 8443 to 443, 9000');
});

test.each([
  [false, 'healthy', 'stopped'],
  [true, undefined, 'running'],
  [true, 'starting', 'running, starting'],
  [true, 'unhealthy', 'running, unhealthy'],
] as const)('running %s with health %s is %s', (running, health, word) => {
  expect(stateOf({ running, state: 'running', health }).word).toBe(word);
});
