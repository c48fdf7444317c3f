/** What is changed. Each change takes a key, by which it is made once and can be undone. */
import { call, getTagged, segment } from './client';
import type {
  Action,
  App,
  Container,
  JournalEntry,
  Route,
  RouteInput,
  Signed,
  Verdict,
  Zone,
} from './types';

/** Identifies a change. */
export type ChangeKey = string;

export function newKey(): ChangeKey {
  return crypto.randomUUID();
}

const keyed = (key: ChangeKey) => ({ 'idempotency-key': key });

/** Checks these routes now, all of them when none is named; deep looks at what a page asks, too. */
export async function check(addresses: readonly string[] = [], deep = false): Promise<Verdict[]> {
  const body = { addresses, deep };
  return (await call<{ verdicts: Verdict[] }>('POST', '/checks', { body })).verdicts;
}

export function addRoute(input: RouteInput, key: ChangeKey): Promise<Route> {
  return call('POST', '/routes', { body: input, headers: keyed(key) });
}

/** Says whether the route could be added, and throws the problem if not. */
export function tryRoute(input: RouteInput): Promise<Route> {
  return call('POST', '/routes?dry_run=true', { body: input });
}

/** A route, and the revision that it was read from. */
export async function showRoute(address: string): Promise<{ route: Route; tag: string }> {
  const { value, tag } = await getTagged<Route>(`/routes/${segment(address)}`);
  return { route: value, tag };
}

/** Applies a JSON merge patch to a route, unless the configuration has changed since `tag`. */
export function editRoute(
  address: string,
  patch: unknown,
  tag: string,
  key: ChangeKey,
): Promise<Route> {
  const headers = { 'if-match': tag, ...keyed(key) };
  return call('PATCH', `/routes/${segment(address)}`, { body: patch, headers });
}

export function removeRoute(address: string, key: ChangeKey): Promise<void> {
  return call('DELETE', `/routes/${segment(address)}`, { headers: keyed(key) });
}

export function addZone(name: string, anyway: boolean, key: ChangeKey): Promise<Zone> {
  return call('POST', '/zones', { body: { name, anyway }, headers: keyed(key) });
}

/** Says whether the zone could be added, and throws the problem if not. */
export function tryZone(name: string): Promise<Zone> {
  return call('POST', '/zones?dry_run=true', { body: { name } });
}

export function editZone(name: string, patch: unknown, key: ChangeKey): Promise<Zone> {
  return call('PATCH', `/zones/${segment(name)}`, { body: patch, headers: keyed(key) });
}

export function removeZone(name: string, key: ChangeKey): Promise<void> {
  const path = `/zones/${segment(name)}?with_routes=true`;
  return call('DELETE', path, { headers: keyed(key) });
}

export interface RecordInput {
  owner: string;
  type: string;
  data: string;
  ttl?: number;
}

export function addRecord(input: RecordInput, key: ChangeKey): Promise<unknown> {
  return call('POST', '/records', { body: input, headers: keyed(key) });
}

export function removeRecords(owner: string, type: string, key: ChangeKey): Promise<unknown> {
  const path = `/records/${segment(owner)}?type=${segment(type)}`;
  return call('DELETE', path, { headers: keyed(key) });
}

/** Undoes the change that was made with this key. */
export function undoKey(key: ChangeKey): Promise<{ entries: JournalEntry[] }> {
  return call('POST', '/undo', { body: { key } });
}

/** Undoes a change of the journal. */
export function undoRevision(revision: number, key: ChangeKey): Promise<unknown> {
  return call('POST', '/undo', { body: { revision }, headers: keyed(key) });
}

export function actOnApp(name: string, act: 'start' | 'stop' | 'restart'): Promise<App> {
  return call('POST', `/apps/${segment(name)}/${act}`, { body: {} });
}

export function actOnContainer(name: string, act: 'start' | 'stop'): Promise<Container> {
  return call('POST', `/containers/${segment(name)}/${act}`, { body: {} });
}

function removeImported(name: string, key: ChangeKey): Promise<void> {
  return call('DELETE', `/certificates/imported/${segment(name)}`, { headers: keyed(key) });
}

export function importCertificate(certificate: string, privateKey: string): Promise<unknown> {
  return call('POST', '/certificates/imported', { body: { certificate, key: privateKey } });
}

/** Has a key and a certificate written to a folder of this machine, and kept fresh there. */
export function exportCertificate(names: readonly string[], folder: string): Promise<unknown> {
  return call('POST', '/certificates/exported', { body: { names, folder } });
}

/** No longer keeps a folder fresh; its files stay. */
export function endExport(folder: string): Promise<void> {
  return call('DELETE', `/certificates/exported?folder=${segment(folder)}`);
}

/** Signs a request (PKCS#10, PEM). */
export function signRequest(request: string): Promise<Signed> {
  return call('POST', '/certificates', { body: { request } });
}

function rotateAuthority(): Promise<unknown> {
  return call('POST', '/authority/rotate', { body: {} });
}

/** Signs a browser out. */
export function endSession(id: number): Promise<void> {
  return call('DELETE', `/sessions/${id}`);
}

/** Signs every browser out, this one included. */
export function endSessions(): Promise<unknown> {
  return call('DELETE', '/sessions');
}

/** Whether the console can carry the action out; what takes root it cannot. */
export function canCarryOut(action: Action): boolean {
  return action.type !== 'system-attach';
}

/** Carries out what fixes a finding. */
export async function carryOut(action: Action, key: ChangeKey): Promise<unknown> {
  switch (action.type) {
    case 'edit-route': {
      const { route, tag } = await showRoute(action.address);
      return editRoute(action.address, withEntries(action, route), tag, key);
    }
    case 'add-route': {
      const slash = action.address.indexOf('/');
      const [name, prefix] =
        slash < 0
          ? [action.address, undefined]
          : [action.address.slice(0, slash), action.address.slice(slash)];
      return addRoute({ name, prefix, to: action.to }, key);
    }
    case 'remove-cert':
      return removeImported(action.name, key);
    case 'start-app':
      return actOnApp(action.name, action.again ? 'restart' : 'start');
    case 'rotate-authority':
      return rotateAuthority();
    case 'system-attach':
      throw new Error('this takes root: run the command in a terminal');
  }
}

/** The patch of an action, with its entries added to the lists that the route has. */
export function withEntries(
  { patch, add = {} }: Extract<Action, { type: 'edit-route' }>,
  route: Pick<Route, 'settings'>,
): Record<string, unknown> {
  const result: Record<string, unknown> = { ...patch };
  for (const [name, entries] of Object.entries(add)) {
    const [group, key] = name.includes('.') ? name.split('.') : [undefined, name];
    if (key === undefined) continue;
    const settings = route.settings as Record<string, unknown>;
    const own = group === undefined ? settings : (settings[group] as Record<string, unknown>);
    const list = (own?.[key] as string[] | undefined) ?? [];
    const joined = [...list, ...entries.filter((entry) => !list.includes(entry))];
    if (group === undefined) result[key] = joined;
    else result[group] = { ...(result[group] as object | undefined), [key]: joined };
  }
  return result;
}
