import type { QueryClient } from '@tanstack/react-query';
import { useQueryClient } from '@tanstack/react-query';
import { useEffect, useState } from 'react';
import type { ServiceEvent } from '../api/events';
import { followEvents } from '../api/events';
import { CONFIGURATION, appsQuery, routesQuery, statesQuery } from '../api/queries';
import type { App, Route, Verdict } from '../api/types';
import { forgetStaleDeepCheck } from './deepChecks';

/** Whether changes are heard of. */
export type Connection = 'connecting' | 'live' | 'lost';

/** How long verdicts gather before the routes are drawn with them: many come at once. */
const GATHER_MS = 100;
/** How long until the result of a check is in the database. */
const STORED_WITHIN_MS = 2_000;

/** Follows the service's events and keeps what was read up to date by them. */
export function useLive(signedIn: boolean): Connection {
  const client = useQueryClient();
  const [connection, setConnection] = useState<Connection>('connecting');
  useEffect(() => {
    if (!signedIn) return;
    const following = new AbortController();
    const verdicts = gatherVerdicts(client);
    const listener = {
      // Events from before the stream was open, or while it was lost, were not sent.
      onOpen: () => {
        setConnection('live');
        void client.invalidateQueries();
      },
      onLost: () => {
        setConnection('lost');
        // A stream that was refused is lost, too; reading says why.
        void client.invalidateQueries({ queryKey: routesQuery().queryKey });
      },
      onEvent: ({ name, data }: ServiceEvent) => {
        switch (name) {
          case 'verdict':
            verdicts.add(JSON.parse(data) as Verdict);
            return;
          case 'configuration':
            void client.invalidateQueries({ queryKey: CONFIGURATION });
            return;
          case 'app':
            noteApp(client, JSON.parse(data) as App['status']);
            return;
          default:
            void client.invalidateQueries();
        }
      },
    };
    void followEvents(listener, following.signal);
    return () => {
      following.abort();
      verdicts.end();
    };
  }, [client, signedIn]);
  return connection;
}

/** Gathers verdicts for a moment, and then notes all of them. */
function gatherVerdicts(client: QueryClient) {
  let waiting: Verdict[] = [];
  let timer: ReturnType<typeof setTimeout> | undefined;
  const flush = () => {
    timer = undefined;
    const came = waiting;
    waiting = [];
    noteVerdicts(client, came);
  };
  return {
    add: (verdict: Verdict) => {
      waiting.push(verdict);
      timer ??= setTimeout(flush, GATHER_MS);
    },
    end: () => clearTimeout(timer),
  };
}

/** Takes in what checks came to. */
export function noteVerdicts(client: QueryClient, verdicts: readonly Verdict[]): void {
  const { queryKey } = routesQuery();
  const isReading = client.isFetching({ queryKey }) > 0;
  const before = client.getQueryData(queryKey);
  client.setQueryData(queryKey, (routes: readonly Route[] | undefined) =>
    routes === undefined ? undefined : withVerdicts(routes, verdicts),
  );
  for (const verdict of verdicts) forgetStaleDeepCheck(client, verdict);
  const changed = verdicts.some((verdict) => {
    const known = before?.find(({ address }) => address === verdict.address)?.verdict;
    return known?.passed !== verdict.passed;
  });
  // What came is in the database a moment later.
  if (changed) {
    setTimeout(
      () => void client.invalidateQueries({ queryKey: statesQuery().queryKey }),
      STORED_WITHIN_MS,
    );
  }
  // What is being read may be older than this.
  if (isReading) void client.invalidateQueries({ queryKey });
}

/** The routes with newer verdicts; a route that none is of stays the same object. */
export function withVerdicts(
  routes: readonly Route[],
  verdicts: readonly Verdict[],
): readonly Route[] {
  const fresh = new Map(verdicts.map((verdict) => [verdict.address, verdict]));
  return routes.map((route) => {
    const verdict = fresh.get(route.address);
    return verdict === undefined ? route : { ...route, verdict };
  });
}

function noteApp(client: QueryClient, status: App['status']): void {
  const { queryKey } = appsQuery();
  client.setQueryData(queryKey, (apps: readonly App[] | undefined) =>
    apps?.map((app) => (app.name === status.name ? { ...app, status } : app)),
  );
  void client.invalidateQueries({ queryKey });
}
