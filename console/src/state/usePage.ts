import { useSyncExternalStore } from 'react';

/** The pages of the console; the address names one behind `#`. */
export type Page = 'routes' | 'names' | 'certificates';

function read(): Page {
  const named = location.hash.slice(1);
  return named === 'names' || named === 'certificates' ? named : 'routes';
}

function subscribe(changed: () => void): () => void {
  addEventListener('hashchange', changed);
  return () => removeEventListener('hashchange', changed);
}

/** The page that the address names. */
export function usePage(): Page {
  return useSyncExternalStore(subscribe, read);
}
