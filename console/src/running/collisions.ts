import type { App, Port } from '../api/types';

/** A port that more than one wants. */
export interface Collision {
  port: number;
  /** Those that want it, or have it. */
  who: string[];
}

/** The ports that two apps have, or that an app has and another program listens on. */
export function collisionsOf(apps: readonly App[], ports: readonly Port[]): Collision[] {
  const wanted = new Map<number, Set<string>>();
  const note = (port: number, who: string) => {
    const all = wanted.get(port) ?? new Set();
    wanted.set(port, all.add(who));
  };
  for (const app of apps) {
    for (const port of Object.values(app.ports)) note(port, `the app ${app.name}`);
  }
  for (const { port, app, container, process, own } of ports) {
    if (!wanted.has(port) || app != null) continue;
    if (container != null) note(port, `the container ${container}`);
    else if (own) note(port, 'Bent Lane itself');
    else if (process != null) note(port, `${process.command} (${process.pid})`);
    else note(port, 'a program of another user');
  }
  return [...wanted]
    .filter(([, who]) => who.size > 1)
    .map(([port, who]) => ({ port, who: [...who] }))
    .sort((a, b) => a.port - b.port);
}
