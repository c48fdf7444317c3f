import type { Container } from '../api/types';
import type { Tone } from '../shared/StateMark';

/** The ports of a container: those that this machine passes in, then those that are inside alone. */
export function portsOf({ published, exposed }: Pick<Container, 'published' | 'exposed'>): string {
  const passed = new Map<string, string>();
  for (const [inside, at] of published as [number, string][]) {
    const port = at.slice(at.lastIndexOf(':') + 1);
    passed.set(`${port} to ${inside}`, String(inside));
  }
  const known = new Set(passed.values());
  const inside = exposed.map(String).filter((port) => !known.has(port));
  return [...passed.keys(), ...inside].join(', ');
}

/** How a container is, for a mark and in words. */
export function stateOf({
  running,
  state,
  health,
}: Pick<Container, 'running' | 'state' | 'health'>): { tone: Tone; word: string } {
  if (!running) return { tone: 'idle', word: 'stopped' };
  switch (health) {
    case 'starting':
      return { tone: 'waiting', word: 'running, starting' };
    case 'unhealthy':
      return { tone: 'bad', word: 'running, unhealthy' };
    default:
      return { tone: 'good', word: state === 'paused' ? 'paused' : 'running' };
  }
}
