import type { Route, Verdict, Zone } from '../api/types';

/** What the console knows. */
export type Known =
  | { status: 'loading' }
  | { status: 'signed-out' }
  | { status: 'failed'; message: string }
  | { status: 'ready'; routes: readonly Route[]; zones: readonly Zone[] };

/** What the console knows, and, apart from that, whether it still hears of changes. */
export interface ConsoleState {
  known: Known;
  connection: 'connecting' | 'live' | 'lost';
}

export type Action =
  | { type: 'loaded'; routes: readonly Route[]; zones: readonly Zone[] }
  | { type: 'signed-out' }
  | { type: 'failed'; message: string }
  | { type: 'verdicts'; verdicts: readonly Verdict[] }
  | { type: 'connection'; connection: ConsoleState['connection'] };

export const initial: ConsoleState = { known: { status: 'loading' }, connection: 'connecting' };

export function reduce(state: ConsoleState, action: Action): ConsoleState {
  switch (action.type) {
    case 'loaded':
      return {
        ...state,
        known: { status: 'ready', routes: inOrder(action.routes), zones: action.zones },
      };
    case 'signed-out':
      return { ...state, known: { status: 'signed-out' } };
    case 'failed':
      // Data that was read stays on the page: it is better than nothing, and marked as no longer live.
      if (state.known.status === 'ready') return { ...state, connection: 'lost' };
      return { ...state, known: { status: 'failed', message: action.message } };
    case 'verdicts': {
      if (state.known.status !== 'ready') return state;
      const fresh = new Map(action.verdicts.map((verdict) => [verdict.address, verdict]));
      const routes = state.known.routes.map((route) => {
        const verdict = fresh.get(route.address);
        return verdict === undefined ? route : { ...route, verdict };
      });
      return { ...state, known: { ...state.known, routes: inOrder(routes) } };
    }
    case 'connection':
      return { ...state, connection: action.connection };
  }
}

/** Broken routes first, since they are what one came for; then by address. */
function inOrder(routes: readonly Route[]): Route[] {
  const rank = (route: Route) => (route.verdict?.passed === false ? 0 : 1);
  return [...routes].sort(
    (a, b) => rank(a) - rank(b) || (a.address < b.address ? -1 : a.address > b.address ? 1 : 0),
  );
}
