import type { Route } from '../api/types';
import { routeState } from './routeState';

/** How routes are grouped. */
export type GroupBy = 'project' | 'zone' | 'none';

/** A line of the list: the title of a group, or a route. */
export type Line =
  | { type: 'group'; title: string; count: number; broken: number }
  | { type: 'route'; route: Route; place: number };

/** The lines of the list: the routes that match, grouped, with what is broken first. */
export function linesOf(
  routes: readonly Route[],
  text: string,
  by: GroupBy,
  zones: readonly string[],
  reached: boolean,
): Line[] {
  const wanted = matcher(text, reached);
  const groups = new Map<string, Ranked[]>();
  for (const route of routes) {
    if (!wanted(route)) continue;
    const title = groupOf(route, by, zones);
    const ranked = { route, rank: routeState(route, reached).rank };
    const group = groups.get(title);
    if (group === undefined) groups.set(title, [ranked]);
    else group.push(ranked);
  }
  const isBroken = ({ rank }: Ranked) => rank === 0;
  const ordered = [...groups].map(([title, members]) => ({
    title,
    members: members.sort(byUrgency),
    broken: members.filter(isBroken).length,
  }));
  ordered.sort((a, b) => Number(b.broken > 0) - Number(a.broken > 0) || compare(a.title, b.title));
  let place = 0;
  return ordered.flatMap(({ title, members, broken }) => {
    const lines: Line[] = members.map(({ route }) => ({
      type: 'route',
      route,
      place: (place += 1),
    }));
    if (by === 'none') return lines;
    return [{ type: 'group', title, count: members.length, broken }, ...lines];
  });
}

interface Ranked {
  route: Route;
  rank: number;
}

/** What decides whether a route is listed: each word of the text is in its address, target, project, note
 * or state. */
export function matcher(text: string, reached: boolean): (route: Route) => boolean {
  const words = text
    .toLowerCase()
    .split(/\s+/)
    .filter((word) => word !== '');
  if (words.length === 0) return () => true;
  return (route) => {
    const { address, to, project, settings } = route;
    const state = routeState(route, reached).word;
    const all = [address, to, project, settings.note, state].join('\n').toLowerCase();
    return words.every((word) => all.includes(word));
  };
}

function groupOf(route: Route, by: GroupBy, zones: readonly string[]): string {
  switch (by) {
    case 'none':
      return '';
    case 'project':
      if (route.project != null) return route.project;
      return route.of_container == null ? 'Added by hand' : 'Containers, by label';
    case 'zone':
      return zoneOf(route.name, zones) ?? 'In no zone';
  }
}

/** The zone of a name: the longest that it is in. */
export function zoneOf(name: string, zones: readonly string[]): string | undefined {
  const bare = name.replace(/^\*\./, '');
  return zones
    .filter((zone) => bare === zone || bare.endsWith(`.${zone}`))
    .sort((a, b) => b.length - a.length)[0];
}

/** By urgency, then by address. */
function byUrgency(a: Ranked, b: Ranked): number {
  return Math.min(a.rank, 4) - Math.min(b.rank, 4) || compare(a.route.address, b.route.address);
}

function compare(a: string, b: string): number {
  return a < b ? -1 : a > b ? 1 : 0;
}
