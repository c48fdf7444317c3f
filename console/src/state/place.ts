/** The pages of the console. */
export const PAGES = [
  'routes',
  'running',
  'traffic',
  'names',
  'certificates',
  'system',
  'journal',
] as const;

export type Page = (typeof PAGES)[number] | 'route';

/** What is in view: a page, what it is of, and its state; all of it is in the page's address. */
export interface Place {
  page: Page;
  /** The route that the page `route` is of. */
  subject?: string;
  params: Readonly<Record<string, string>>;
}

/** What the part of an address behind `#` names. */
export function placeOf(hash: string): Place {
  const text = hash.replace(/^#/, '');
  const mark = text.indexOf('?');
  const path = mark < 0 ? text : text.slice(0, mark);
  const params = Object.fromEntries(
    new URLSearchParams(mark < 0 ? '' : text.slice(mark + 1)).entries(),
  );
  const slash = path.indexOf('/');
  const page = slash < 0 ? path : path.slice(0, slash);
  if (page === 'route' && slash >= 0) {
    try {
      return { page: 'route', subject: decodeURIComponent(path.slice(slash + 1)), params };
    } catch {
      return { page: 'routes', params: {} };
    }
  }
  const known = PAGES.find((known) => known === page);
  return { page: known ?? 'routes', params: known === undefined ? {} : params };
}

/** The address of a place. */
export function hashOf({ page, subject, params }: Place): string {
  const query = new URLSearchParams(params).toString();
  const path = subject === undefined ? page : `${page}/${encodeURIComponent(subject)}`;
  return `#${path}${query === '' ? '' : `?${query}`}`;
}

/** Where the page of a route is. */
export function routePath(address: string, params: Place['params'] = {}): string {
  return hashOf({ page: 'route', subject: address, params });
}

/** Where a page is. */
export function pagePath(page: Page, params: Place['params'] = {}): string {
  return hashOf({ page, params });
}

/** The parameters with some changed; an empty value takes one out. */
export function withParams(
  params: Place['params'],
  changes: Readonly<Record<string, string | undefined>>,
): Place['params'] {
  const all = Object.entries({ ...params, ...changes });
  return Object.fromEntries(
    all.filter((pair): pair is [string, string] => pair[1] !== undefined && pair[1] !== ''),
  );
}
