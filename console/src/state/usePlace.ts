import { useMemo, useSyncExternalStore } from 'react';
import type { Place } from './place';
import { hashOf, placeOf, withParams } from './place';

function subscribe(changed: () => void): () => void {
  addEventListener('hashchange', changed);
  return () => removeEventListener('hashchange', changed);
}

/** What the page's address names, as it changes. */
export function usePlace(): Place {
  const hash = useSyncExternalStore(subscribe, () => location.hash);
  return useMemo(() => placeOf(hash), [hash]);
}

/** Goes to a place, as a link does. */
export function goTo(hash: string): void {
  location.hash = hash;
}

/** Changes parameters of the place in view. The way back leads past it, unless it is a `step`. */
export function setParams(
  changes: Readonly<Record<string, string | undefined>>,
  step: 'step' | undefined = undefined,
): void {
  const place = placeOf(location.hash);
  const next = hashOf({ ...place, params: withParams(place.params, changes) });
  if (next === location.hash) return;
  if (step === 'step') {
    location.hash = next;
    return;
  }
  history.replaceState(history.state, '', next);
  // Replacing is not announced by the browser.
  dispatchEvent(new HashChangeEvent('hashchange'));
}
