import { useSyncExternalStore } from 'react';

/** The pages of the console; the address names one behind `#`. */
export type Page = 'routes' | 'names';

function read(): Page {
  return location.hash === '#names' ? 'names' : 'routes';
}

function subscribe(changed: () => void): () => void {
  addEventListener('hashchange', changed);
  return () => removeEventListener('hashchange', changed);
}

/** The page that the address names. */
export function usePage(): Page {
  return useSyncExternalStore(subscribe, read);
}
