import { useSyncExternalStore } from 'react';

/** The pages of the console; the address names one behind `#`. */
export type Page = 'routes' | 'traffic' | 'names' | 'certificates' | 'sessions';

const PAGES: readonly Page[] = ['routes', 'traffic', 'names', 'certificates', 'sessions'];

/** The page in view, or one route. */
export type Place = { page: Page; route?: string };

const ROUTE = '#route/';

/** Where the page of a route is. */
export function routePath(address: string): string {
  return `${ROUTE}${encodeURIComponent(address)}`;
}

function subscribe(changed: () => void): () => void {
  addEventListener('hashchange', changed);
  return () => removeEventListener('hashchange', changed);
}

/** What the address names. */
export function placeOf(hash: string): Place {
  if (hash.startsWith(ROUTE)) {
    try {
      return { page: 'routes', route: decodeURIComponent(hash.slice(ROUTE.length)) };
    } catch {
      return { page: 'routes' };
    }
  }
  const named = hash.slice(1);
  const known = PAGES.find((page) => page === named);
  return { page: known ?? 'routes' };
}

/** What the address names, as it changes. */
export function usePlace(): Place {
  return placeOf(useSyncExternalStore(subscribe, () => location.hash));
}
