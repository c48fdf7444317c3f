import { useSyncExternalStore } from 'react';

/** The colours: as the system has them, or one of the two whatever the system says. */
export type Theme = 'system' | 'light' | 'dark';

const KEY = 'bentlane-theme';
const listeners = new Set<() => void>();

/** The theme that was chosen in this browser. */
export function theme(): Theme {
  const kept = localStorage.getItem(KEY);
  return kept === 'light' || kept === 'dark' ? kept : 'system';
}

/** Draws the page in the theme. */
export function applyTheme(): void {
  const chosen = theme();
  if (chosen === 'system') delete document.documentElement.dataset.theme;
  else document.documentElement.dataset.theme = chosen;
}

export function setTheme(next: Theme): void {
  if (next === 'system') localStorage.removeItem(KEY);
  else localStorage.setItem(KEY, next);
  applyTheme();
  listeners.forEach((changed) => changed());
}

export function useTheme(): Theme {
  return useSyncExternalStore((changed) => {
    const fromOtherTab = () => {
      applyTheme();
      changed();
    };
    listeners.add(changed);
    addEventListener('storage', fromOtherTab);
    return () => {
      listeners.delete(changed);
      removeEventListener('storage', fromOtherTab);
    };
  }, theme);
}
