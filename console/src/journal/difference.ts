/** A value that a change made different. */
export interface Difference {
  key: string;
  before?: string;
  after?: string;
}

/** What is different between two states of something, key by key; a missing state has no keys. */
export function differences(before: unknown, after: unknown): Difference[] {
  const [old, now] = [flat(before), flat(after)];
  const keys = [...new Set([...old.keys(), ...now.keys()])];
  return keys
    .filter((key) => old.get(key) !== now.get(key))
    .map((key) => ({ key, before: old.get(key), after: now.get(key) }));
}

/** The values of a JSON text by their keys, those of groups with a dot. */
function flat(value: unknown, prefix = '', into = new Map<string, string>()): Map<string, string> {
  if (value === null || value === undefined) return into;
  if (Array.isArray(value) && value.some((own) => typeof own === 'object')) {
    value.forEach((own: Record<string, unknown>, at) => {
      const name = own.address ?? own.name ?? own.owner ?? at;
      flat(own, prefix === '' ? String(name) : `${prefix}.${String(name)}`, into);
    });
    return into;
  }
  if (typeof value !== 'object' || Array.isArray(value)) {
    return into.set(prefix === '' ? 'value' : prefix, shown(value));
  }
  for (const [key, own] of Object.entries(value)) {
    const name = prefix === '' ? key : `${prefix}.${key}`;
    flat(own, name, into);
  }
  return into;
}

function shown(value: unknown): string {
  if (Array.isArray(value)) return value.map(shown).join(', ');
  return typeof value === 'string' ? value : JSON.stringify(value);
}
