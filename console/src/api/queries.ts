/** What is read: the key under which it is kept, and how it is fetched. */
import { keepPreviousData, queryOptions } from '@tanstack/react-query';
import { get, query, segment } from './client';
import type {
  App,
  AppOutput,
  Authority,
  Certificate,
  Container,
  DnsRecord,
  Exported,
  Guide,
  JournalEntry,
  Machine,
  MachinePlan,
  NameExplanation,
  Port,
  Queries,
  Route,
  RouteHistory,
  Session,
  Status,
  Traffic,
  TrafficFilter,
  TrafficSeries,
  TrafficSummary,
  TrustStore,
  Upstream,
  Verdict,
  Zone,
} from './types';

/** What changes with the configuration, which an event announces. */
export const CONFIGURATION = ['configuration'] as const;

export const routesQuery = () =>
  queryOptions({
    queryKey: [...CONFIGURATION, 'routes'],
    queryFn: async ({ signal }): Promise<readonly Route[]> =>
      (await get<{ routes: Route[] }>('/routes', signal)).routes,
    structuralSharing: false,
  });

export const zonesQuery = () =>
  queryOptions({
    queryKey: [...CONFIGURATION, 'zones'],
    queryFn: async ({ signal }): Promise<readonly Zone[]> =>
      (await get<{ zones: Zone[] }>('/zones', signal)).zones,
  });

export const recordsQuery = () =>
  queryOptions({
    queryKey: [...CONFIGURATION, 'records'],
    queryFn: async ({ signal }): Promise<readonly DnsRecord[]> =>
      (await get<{ records: DnsRecord[] }>('/records', signal)).records,
  });

export const journalQuery = (limit: number) =>
  queryOptions({
    queryKey: [...CONFIGURATION, 'journal', limit],
    queryFn: async ({ signal }): Promise<readonly JournalEntry[]> =>
      (await get<{ entries: JournalEntry[] }>(`/journal${query({ limit })}`, signal)).entries,
    placeholderData: keepPreviousData,
  });

export const authorityQuery = () =>
  queryOptions({
    queryKey: [...CONFIGURATION, 'authority'],
    queryFn: ({ signal }) => get<Authority>('/authority', signal),
    refetchInterval: 5000,
  });

export const certificatesQuery = () =>
  queryOptions({
    queryKey: [...CONFIGURATION, 'certificates'],
    queryFn: ({ signal }) =>
      get<{ certificates: Certificate[]; exported?: Exported[] }>('/certificates', signal),
    refetchInterval: 5000,
  });

/** The trust stores of the machine, with what each says of the root. It takes a moment. */
export const storesQuery = () =>
  queryOptions({
    queryKey: [...CONFIGURATION, 'stores'],
    queryFn: async ({ signal }): Promise<readonly TrustStore[]> =>
      (await get<{ stores: TrustStore[] }>('/authority/stores', signal)).stores,
    refetchInterval: 5000,
  });

/** How the routes have been over the last day. */
export const statesQuery = () =>
  queryOptions({
    queryKey: ['states'],
    queryFn: async ({ signal }): Promise<ReadonlyMap<string, RouteHistory['changes']>> => {
      const { routes } = await get<{ routes: RouteHistory[] }>('/states', signal);
      return new Map(routes.map(({ address, changes }) => [address, changes]));
    },
    refetchInterval: 30_000,
    structuralSharing: false,
  });

/** What this machine does with our names. */
export const machineQuery = () =>
  queryOptions({
    queryKey: ['machine'],
    queryFn: ({ signal }) => get<Machine>('/machine', signal),
    refetchInterval: 15_000,
  });

export const machinePlanQuery = () =>
  queryOptions({
    queryKey: ['machine', 'plan'],
    queryFn: ({ signal }) => get<MachinePlan>('/machine/plan', signal),
  });

export const guideQuery = (system: string) =>
  queryOptions({
    queryKey: ['machine', 'guide', system],
    queryFn: ({ signal }) => get<Guide>(`/machine/guides/${segment(system)}`, signal),
  });

export const statusQuery = () =>
  queryOptions({
    queryKey: ['status'],
    queryFn: ({ signal }) => get<Status>('/status', signal),
    refetchInterval: 3000,
  });

export const appsQuery = () =>
  queryOptions({
    queryKey: ['apps'],
    queryFn: async ({ signal }): Promise<readonly App[]> =>
      (await get<{ apps: App[] }>('/apps', signal)).apps,
    refetchInterval: 2000,
  });

/** What listens on this machine. */
export const portsQuery = () =>
  queryOptions({
    queryKey: ['ports'],
    queryFn: async ({ signal }): Promise<readonly Port[]> =>
      (await get<{ ports: Port[] }>('/ports', signal)).ports,
    refetchInterval: 3000,
  });

export const containersQuery = () =>
  queryOptions({
    queryKey: ['containers'],
    queryFn: async ({ signal }): Promise<readonly Container[]> =>
      (await get<{ containers: Container[] }>('/containers', signal)).containers,
    refetchInterval: 2000,
  });

/** What the resolver was asked lately, newest first, and what most often. */
export const queriesQuery = () =>
  queryOptions({
    queryKey: ['queries'],
    queryFn: ({ signal }) => get<Queries>('/queries', signal),
    refetchInterval: 1000,
  });

export const upstreamsQuery = () =>
  queryOptions({
    queryKey: ['upstreams'],
    queryFn: async ({ signal }): Promise<readonly Upstream[]> =>
      (await get<{ upstreams: Upstream[] }>('/upstreams', signal)).upstreams,
    refetchInterval: 5000,
  });

export const explanationQuery = (name: string) =>
  queryOptions({
    queryKey: [...CONFIGURATION, 'explanation', name],
    queryFn: ({ signal }) => get<NameExplanation>(`/names/explanation${query({ name })}`, signal),
  });

/** The browsers that are signed in. */
export const sessionsQuery = () =>
  queryOptions({
    queryKey: ['sessions'],
    queryFn: async ({ signal }): Promise<readonly Session[]> =>
      (await get<{ sessions: Session[] }>('/sessions', signal)).sessions,
  });

/** What checks of a route came to, newest first: an entry for each time that it changed. */
export const verdictsQuery = (address: string, newest: string | undefined) =>
  queryOptions({
    queryKey: ['verdicts', address, newest],
    queryFn: async ({ signal }): Promise<readonly Verdict[]> =>
      (await get<{ verdicts: Verdict[] }>(`/routes/${segment(address)}/verdicts?limit=200`, signal))
        .verdicts,
    placeholderData: keepPreviousData,
  });

/** The certificate that a name is served with; it is made if there is none yet. */
export const certificateQuery = (name: string) =>
  queryOptions({
    queryKey: [...CONFIGURATION, 'certificate', name],
    queryFn: ({ signal }) => get<Certificate>(`/certificates/${segment(name)}`, signal),
  });

/** What each route's exchanges of the last 15 minutes come to, the busiest first, and how many were not
 * recorded since the start. */
export const summaryQuery = () =>
  queryOptions({
    queryKey: ['summary'],
    queryFn: ({ signal }) => get<TrafficSummary>('/traffic/summary', signal),
    refetchInterval: 5000,
  });

export const seriesQuery = (route: string | undefined, seconds: number, step: number) =>
  queryOptions({
    queryKey: ['series', route, seconds, step],
    queryFn: ({ signal }) =>
      get<TrafficSeries>(`/traffic/series${query({ route, seconds, step })}`, signal),
    refetchInterval: 5000,
    placeholderData: keepPreviousData,
  });

/** The latest exchanges that match, latest last. */
export function listTraffic(
  filter: TrafficFilter,
  most: number,
  signal: AbortSignal,
): Promise<Traffic> {
  return get(`/traffic${query({ ...filter, limit: most })}`, signal);
}

/** The exchanges after the one numbered `after`; waits for one when there is none. */
export function followTraffic(
  filter: TrafficFilter,
  after: number,
  signal: AbortSignal,
): Promise<Traffic> {
  return get(`/traffic${query({ ...filter, limit: 1000, after, wait: 20 })}`, signal);
}

/** The path of the latest exchanges that match, as an HTTP Archive. */
export function archivePath(filter: TrafficFilter): string {
  return `/traffic/archive${query({ ...filter, limit: 1000 })}`;
}

/** The last lines that an app printed; behind the line numbered `after` it waits for one. */
export function readOutput(
  name: string,
  after: number | undefined,
  most: number,
  signal: AbortSignal,
): Promise<AppOutput> {
  const wanted = { limit: most, after, wait: after === undefined ? undefined : true };
  return get(`/apps/${segment(name)}/output${query(wanted)}`, signal);
}
