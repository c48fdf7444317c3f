import { authorization } from './session';
import type {
  Machine,
  Authority,
  Certificate,
  ProblemBody,
  Query,
  DnsRecord,
  Route,
  RouteInput,
  RouteTraffic,
  Session,
  Traffic,
  TrafficFilter,
  TrustStore,
  Verdict,
  Zone,
} from './types';

/** An error that the service explains. */
export class Problem extends Error {
  readonly body: ProblemBody;

  constructor(body: ProblemBody) {
    super(body.detail);
    this.name = 'Problem';
    this.body = body;
  }
}

function send(
  method: string,
  path: string,
  body?: unknown,
  signal?: AbortSignal,
  headers: Record<string, string> = {},
): Promise<Response> {
  return fetch(`/api/v1${path}`, {
    method,
    signal,
    headers: { 'content-type': 'application/json', ...authorization(), ...headers },
    body: body === undefined ? undefined : JSON.stringify(body),
  });
}

async function call<T>(
  method: string,
  path: string,
  body?: unknown,
  signal?: AbortSignal,
  headers?: Record<string, string>,
): Promise<T> {
  return contentOf(await send(method, path, body, signal, headers));
}

/** The content of a response; throws the problem that it reports. */
async function contentOf<T>(response: Response): Promise<T> {
  const text = await response.text();
  const data: unknown = text === '' ? undefined : JSON.parse(text);
  if (!response.ok) throw new Problem(data as ProblemBody);
  return data as T;
}

export async function listRoutes(): Promise<Route[]> {
  return (await call<{ routes: Route[] }>('GET', '/routes')).routes;
}

export async function listZones(): Promise<Zone[]> {
  return (await call<{ zones: Zone[] }>('GET', '/zones')).zones;
}

export async function listRecords(signal?: AbortSignal): Promise<DnsRecord[]> {
  return (await call<{ records: DnsRecord[] }>('GET', '/records', undefined, signal)).records;
}

/** What the resolver was asked lately, newest first. */
export async function listQueries(signal?: AbortSignal): Promise<Query[]> {
  return (await call<{ queries: Query[] }>('GET', '/queries', undefined, signal)).queries;
}

/** The latest exchanges that match, latest last. */
export function listTraffic(
  filter: TrafficFilter,
  most: number,
  signal: AbortSignal,
): Promise<Traffic> {
  return call('GET', `/traffic?${wanted(filter, { limit: most })}`, undefined, signal);
}

/** The exchanges after the one numbered `after`; waits for one when there is none. */
export function followTraffic(
  filter: TrafficFilter,
  after: number,
  signal: AbortSignal,
): Promise<Traffic> {
  const path = `/traffic?${wanted(filter, { limit: 1000, after, wait: 20 })}`;
  return call('GET', path, undefined, signal);
}

/** What each route's exchanges of the last quarter of an hour come to, the busiest first. */
export async function sumUpTraffic(signal?: AbortSignal): Promise<RouteTraffic[]> {
  return (await call<{ routes: RouteTraffic[] }>('GET', '/traffic/summary', undefined, signal))
    .routes;
}

/** The latest exchanges that match, as an HTTP Archive. */
export function fetchArchive(filter: TrafficFilter): Promise<Blob> {
  return fetchFile(`/traffic/archive?${wanted(filter, { limit: 1000 })}`);
}

async function fetchFile(path: string): Promise<Blob> {
  const response = await send('GET', path);
  if (!response.ok) throw new Problem((await response.json()) as ProblemBody);
  return response.blob();
}

function wanted(filter: TrafficFilter, more: Record<string, number>): string {
  const pairs = Object.entries({ ...filter, ...more }).filter(([, value]) => value !== undefined);
  return new URLSearchParams(pairs.map(([key, value]) => [key, String(value)])).toString();
}

export function showAuthority(signal?: AbortSignal): Promise<Authority> {
  return call('GET', '/authority', undefined, signal);
}

/** The trust stores of the machine, with what each says of the root. It takes a moment. */
export async function listStores(signal?: AbortSignal): Promise<TrustStore[]> {
  return (await call<{ stores: TrustStore[] }>('GET', '/authority/stores', undefined, signal))
    .stores;
}

export async function listCertificates(signal?: AbortSignal): Promise<Certificate[]> {
  return (await call<{ certificates: Certificate[] }>('GET', '/certificates', undefined, signal))
    .certificates;
}

/** The root in this form. */
export function fetchRoot(form: 'pem' | 'der' | 'pkcs12' | 'apple-profile'): Promise<Blob> {
  return fetchFile(`/authority/root?form=${form}`);
}

/** The browsers that are signed in. */
export async function listSessions(signal?: AbortSignal): Promise<Session[]> {
  return (await call<{ sessions: Session[] }>('GET', '/sessions', undefined, signal)).sessions;
}

/** Signs a browser out. */
export function endSession(id: number): Promise<void> {
  return call('DELETE', `/sessions/${id}`);
}

/** Signs every browser out, this one included. */
export function endSessions(): Promise<unknown> {
  return call('DELETE', '/sessions');
}

/** Checks these routes now, all of them when none is named; deep looks at what a page asks, too. */
export async function check(addresses: string[] = [], deep = false): Promise<Verdict[]> {
  return (await call<{ verdicts: Verdict[] }>('POST', '/checks', { addresses, deep })).verdicts;
}

/** What this machine does with our names; a list, since it is read again and again. */
export async function readMachine(signal?: AbortSignal): Promise<Machine[]> {
  return [await call<Machine>('GET', '/machine', undefined, signal)];
}

/** What checks of a route came to, newest first: an entry for each time that it changed. */
export async function listVerdicts(address: string, signal?: AbortSignal): Promise<Verdict[]> {
  const path = `/routes/${encodeURIComponent(address)}/verdicts?limit=200`;
  return (await call<{ verdicts: Verdict[] }>('GET', path, undefined, signal)).verdicts;
}

/** A route, and the revision that it was read from. */
export interface ReadRoute {
  route: Route;
  tag: string;
}

export async function showRoute(address: string): Promise<ReadRoute> {
  const response = await send('GET', `/routes/${encodeURIComponent(address)}`);
  return { route: await contentOf(response), tag: response.headers.get('etag') ?? '*' };
}

/** Applies a JSON merge patch to a route, unless the configuration has changed since `tag`. */
export function editRoute(address: string, patch: unknown, tag: string): Promise<Route> {
  const path = `/routes/${encodeURIComponent(address)}`;
  return call('PATCH', path, patch, undefined, { 'if-match': tag });
}

export function addRoute(input: RouteInput): Promise<Route> {
  return call('POST', '/routes', input);
}

/** Says whether the route could be added, and throws the problem if not. */
export function tryRoute(input: RouteInput): Promise<Route> {
  return call('POST', '/routes?dry_run=true', input);
}

/** Says whether the zone could be added, and throws the problem if not. */
export function tryZone(name: string): Promise<Zone> {
  return call('POST', '/zones?dry_run=true', { name });
}

export function addZone(name: string): Promise<Zone> {
  return call('POST', '/zones', { name });
}
