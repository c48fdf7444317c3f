import type { Route } from '../api/types';
import declared from './settings.json';

/** A setting of a route, as the service declares it. */
export interface Setting {
  key: string;
  /** The settings that it is one of, such as `expect`. */
  group: string | null;
  kind: 'text' | 'number' | 'switch' | 'list';
  help: string;
  default: string;
}

export const SETTINGS = declared as readonly Setting[];

/** The settings by what they are about, the usual ones first; whatever is not named here comes last. */
const TOPICS: readonly (readonly [string, readonly string[]])[] = [
  ['Usual', ['note', 'paused', 'subdomains', 'strip_prefix', 'expect.title', 'expect.status']],
  ['Checks', ['expect.text', 'expect.header', 'expect.json', 'expect.websocket', 'expect.events']],
  ['Name and certificate', ['address', 'listen', 'cert', 'plain', 'protocol', 'tls']],
  ['What the app gets', ['host', 'target_tls', 'target_name', 'trust_forwarded', 'ports', 'start']],
  [
    'Headers and time',
    [
      'set_headers',
      'remove_headers',
      'allow_origins',
      'drop_hsts',
      'server_timing',
      'first_byte_timeout',
    ],
  ],
  ['Folders and redirects', ['fallback', 'else', 'serve_sources', 'redirect_status', 'keep_path']],
];

/** The settings in their groups. */
export function settingsByTopic(): { topic: string; settings: readonly Setting[] }[] {
  const named = new Set(TOPICS.flatMap(([, names]) => names));
  const rest = SETTINGS.map(nameOf).filter((name) => !named.has(name));
  return [...TOPICS, ['Other', rest] as const].map(([topic, names]) => ({
    topic,
    settings: names.flatMap((name) => SETTINGS.find((setting) => nameOf(setting) === name) ?? []),
  }));
}

/** What the command line calls a setting, as a title: `expect.status` is "Expect: status". */
export function titleOf(setting: Setting): string {
  const text = nameOf(setting).replaceAll('_', ' ').replace('.', ': ');
  return `${text.charAt(0).toUpperCase()}${text.slice(1)}`;
}

export type Value = string | number | boolean | readonly string[];

/** What the command line calls it, such as `expect.status`. */
export function nameOf({ group, key }: Setting): string {
  return group === null ? key : `${group}.${key}`;
}

/** The value that a route has for it; none when it is not set. */
export function valueOf(route: Route, { group, key }: Setting): Value | undefined {
  const settings = route.settings as Record<string, unknown>;
  const own = group === null ? settings : (settings[group] as Record<string, unknown> | undefined);
  const value = own?.[key];
  return value === null ? undefined : (value as Value | undefined);
}

/** The merge patch (RFC 7396) that gives it this value, or unsets it. */
export function patchOf({ group, key }: Setting, value: Value | null): unknown {
  const patch = { [key]: value };
  return group === null ? patch : { [group]: patch };
}

/** One merge patch (RFC 7396) for several that are one or two levels deep. */
export function mergePatches(patches: readonly unknown[]): Record<string, unknown> {
  const merged: Record<string, unknown> = {};
  for (const patch of patches) {
    for (const [key, value] of Object.entries(patch as Record<string, unknown>)) {
      const isGroup = typeof value === 'object' && value !== null && !Array.isArray(value);
      merged[key] = isGroup ? { ...(merged[key] as object | undefined), ...value } : value;
    }
  }
  return merged;
}

/** A value as a field shows it: one line for each entry of a list. */
export function shown(value: Value | undefined): string {
  if (value === undefined) return '';
  return typeof value === 'object' ? value.join('\n') : String(value);
}

/** The value in a field; none when it is empty. */
export function entered(setting: Setting, text: string): Value | null {
  const trimmed = text.trim();
  if (trimmed === '') return null;
  switch (setting.kind) {
    case 'number':
      // What is not a number is sent as it is: the service says what is wrong with it.
      return Number.isNaN(Number(trimmed)) ? trimmed : Number(trimmed);
    case 'switch':
      return trimmed === 'true';
    case 'list':
      return trimmed
        .split('\n')
        .map((line) => line.trim())
        .filter((line) => line !== '');
    case 'text':
      return trimmed;
  }
}

/** Whether two values are the same. */
export function same(one: Value | undefined, other: Value | undefined): boolean {
  return JSON.stringify(one) === JSON.stringify(other);
}
