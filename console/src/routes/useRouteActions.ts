import { useMutation, useQueryClient } from '@tanstack/react-query';
import { check, editRoute, removeRoute, showRoute } from '../api/changes';
import type { ChangeKey } from '../api/changes';
import { Problem } from '../api/client';
import type { Route } from '../api/types';
import { useToasts } from '../shared/useToasts';
import { noteDeepCheck } from '../state/deepChecks';
import { reasonOf, useChange } from '../state/useChange';
import { noteVerdicts } from '../state/useLive';

/** What one can do with a route, from its row, its page, and the palette. */
export function useRouteActions() {
  const change = useChange();
  const client = useQueryClient();
  const { show } = useToasts();
  const checking = useMutation({
    mutationFn: async ({ routes, deep }: { routes: readonly Route[]; deep: boolean }) => {
      const verdicts = await check(
        routes.map(({ address }) => address),
        deep,
      );
      if (!deep) noteVerdicts(client, verdicts);
      else {
        const known = new Map(routes.map((route) => [route.address, route.verdict]));
        verdicts.forEach((it) => noteDeepCheck(client, it, known.get(it.address)));
      }
    },
    onError: (error) => show({ text: `Not checked: ${reasonOf(error)}`, failed: true }),
  });
  return {
    isChecking: checking.isPending,
    check: (routes: readonly Route[], deep = false) => checking.mutate({ routes, deep }),
    copyUrl: ({ url }: Route) => {
      navigator.clipboard.writeText(url).then(
        () => show({ text: `Copied ${url}` }),
        () => show({ text: `The browser does not let this page copy: ${url}`, failed: true }),
      );
    },
    pause: ({ address, settings }: Route) => {
      const paused = settings.paused === true ? null : true;
      change.mutate({
        done: `${paused === null ? 'Resumed' : 'Paused'} ${address}`,
        make: (key) => patchRoute(address, { paused }, key),
      });
    },
    remove: ({ address }: Route) =>
      change.mutate({
        done: `Removed ${address}`,
        make: (key) => removeRoute(address, key),
      }),
  };
}

/** Applies a patch to a route as it is now, again when something else of the configuration changes in the
 * same moment. */
export async function patchRoute(
  address: string,
  patch: unknown,
  key: ChangeKey,
  stillHolds: (route: Route) => void = () => undefined,
): Promise<Route> {
  for (;;) {
    const { route, tag } = await showRoute(address);
    stillHolds(route);
    try {
      return await editRoute(address, patch, tag, key);
    } catch (error) {
      if (!(error instanceof Problem) || error.body.status !== 412) throw error;
    }
  }
}
