import { useMemo } from 'react';
import type { App, Route } from '../api/types';
import { opens } from '../format';
import { useRouteActions } from '../routes/useRouteActions';
import { PAGES, pagePath, routePath } from '../state/place';
import { setTheme } from '../state/theme';
import { goTo, setParams } from '../state/usePlace';
import type { Item } from './match';

/** All that the palette finds: pages, routes, apps, and what one can do with them. */
export function useItems(routes: readonly Route[], apps: readonly App[]): readonly Item[] {
  const actions = useRouteActions();
  return useMemo(() => {
    const go = (title: string, kind: string, hash: string): Item => ({
      title,
      kind,
      run: () => goTo(hash),
    });
    const pages = PAGES.map((page) =>
      go(`${page.charAt(0).toUpperCase()}${page.slice(1)}`, 'page', pagePath(page)),
    );
    const general: Item[] = [
      { title: 'Add route', kind: 'action', run: () => setParams({ add: 'route' }, 'step') },
      { title: 'Check all routes', kind: 'action', run: () => actions.check([]) },
      go('Explain a name', 'action', pagePath('names')),
      go('Rates over time', 'page', pagePath('traffic', { tab: 'rates' })),
      go('This machine', 'page', pagePath('system', { tab: 'machine' })),
      go('Trust stores', 'page', pagePath('certificates', { tab: 'stores' })),
      { title: 'Use light colours', kind: 'action', run: () => setTheme('light') },
      { title: 'Use dark colours', kind: 'action', run: () => setTheme('dark') },
      { title: 'Use the system’s colours', kind: 'action', run: () => setTheme('system') },
    ];
    const ofRoutes = routes.map(({ address }) => go(address, 'route', routePath(address)));
    const ofApps = apps.map(({ name }) =>
      go(`Output of ${name}`, 'app', pagePath('running', { app: name })),
    );
    const onRoutes = routes.flatMap((route): Item[] => {
      const { address } = route;
      const all: Item[] = [
        { title: `Check ${address}`, kind: 'action', run: () => actions.check([route]) },
        go(`Settings of ${address}`, 'action', routePath(address, { tab: 'settings' })),
      ];
      if (opens(route)) {
        const open = () => window.open(route.url, '_blank', 'noreferrer');
        all.push({ title: `Open ${address}`, kind: 'action', run: open });
      }
      if (route.of_container == null) {
        const verb = route.settings.paused === true ? 'Resume' : 'Pause';
        all.push(
          { title: `${verb} ${address}`, kind: 'action', run: () => actions.pause(route) },
          { title: `Remove ${address}`, kind: 'action', run: () => actions.remove(route) },
        );
      }
      return all;
    });
    return [...pages, ...ofRoutes, ...general, ...ofApps, ...onRoutes];
    // What is done does not depend on what is being checked meanwhile.
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [routes, apps]);
}
