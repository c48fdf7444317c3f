import { authorization } from './session';
import type { ProblemBody } from './types';

/** An error that the service explains. */
export class Problem extends Error {
  readonly body: ProblemBody;

  constructor(body: ProblemBody) {
    super(body.detail);
    this.name = 'Problem';
    this.body = body;
  }
}

/** What a call has beside its path. */
interface CallParts {
  body?: unknown;
  signal?: AbortSignal;
  headers?: Record<string, string>;
}

function send(method: string, path: string, parts: CallParts = {}): Promise<Response> {
  const { body, signal, headers = {} } = parts;
  return fetch(`/api/v1${path}`, {
    method,
    signal,
    headers: { 'content-type': 'application/json', ...authorization(), ...headers },
    body: body === undefined ? undefined : JSON.stringify(body),
  });
}

/** The content of a response; throws the problem that it reports. */
async function contentOf<T>(response: Response): Promise<T> {
  const text = await response.text();
  const isJson = response.headers.get('content-type')?.includes('json') === true;
  if (!response.ok) throw new Problem(isJson ? (JSON.parse(text) as ProblemBody) : bare(response));
  return (text === '' ? undefined : JSON.parse(text)) as T;
}

/** The problem of a response that says no more than its status. */
function bare({ status, statusText }: Response): ProblemBody {
  return { status, title: statusText, detail: `the service answers with status ${status}` };
}

/** Whether an error says that this browser is not signed in, or was signed in to a service that has
 * ended: another one has another name. */
export function isSignedOut(error: unknown): boolean {
  return error instanceof Problem && [401, 421].includes(error.body.status);
}

/** Reads something. */
export async function get<T>(path: string, signal?: AbortSignal): Promise<T> {
  return contentOf(await send('GET', path, { signal }));
}

/** Reads something that has a revision, and gives that, too. */
export async function getTagged<T>(path: string): Promise<{ value: T; tag: string }> {
  const response = await send('GET', path);
  return { value: await contentOf(response), tag: response.headers.get('etag') ?? '*' };
}

/** Reads a file. */
export async function getFile(path: string): Promise<Blob> {
  const response = await send('GET', path);
  if (!response.ok) return contentOf(response);
  return response.blob();
}

/** Calls for anything else. */
export async function call<T>(method: string, path: string, parts: CallParts = {}): Promise<T> {
  return contentOf(await send(method, path, parts));
}

/** A part of a path, and a query, for what a person named. */
export const segment = encodeURIComponent;

export function query(pairs: Record<string, string | number | boolean | undefined>): string {
  const given = Object.entries(pairs).filter(([, value]) => value !== undefined);
  const text = new URLSearchParams(given.map(([key, value]) => [key, String(value)])).toString();
  return text === '' ? '' : `?${text}`;
}
