import type { App, Container, Port } from '../api/types';

/** Something that a route could lead to. */
export interface Suggestion {
  /** The target, as one writes it. */
  to: string;
  /** What is there. */
  about: string;
}

/** How many are shown. */
const MOST = 8;

/** The targets to suggest: apps and containers first, then ports that speak HTTP and belong to none of
 * them. Those that no route leads to yet come before the others. */
export function suggestedTargets(
  apps: readonly App[],
  ports: readonly Port[],
  containers: readonly Container[] = [],
): Suggestion[] {
  const ofApps = apps.map((app) => ({
    to: `app:${app.name}`,
    about: app.settings.command ?? '',
    used: app.routes.length > 0,
  }));
  const ofPorts = ports
    .filter(
      (port) =>
        port.protocol === 'http' &&
        !port.own &&
        port.app === undefined &&
        port.container === undefined,
    )
    .map((port) => ({
      to: String(port.port),
      about: port.title ?? port.process?.command ?? '',
      used: port.routes.length > 0,
    }));
  const ofContainers = containers
    .filter(({ running, at }) => running && at.length > 0)
    .map((container) => ({
      to: `container:${container.name}`,
      about: container.image_name ?? '',
      used: container.routes.length > 0,
    }));
  return [...ofApps, ...ofContainers, ...ofPorts]
    .sort((a, b) => Number(a.used) - Number(b.used))
    .slice(0, MOST)
    .map(({ to, about }) => ({ to, about }));
}
