/** Being signed in: a code from the page's address becomes a session, which each call shows. */

/** Where the session is kept, for all tabs of this origin. */
const KEY = 'bentlane-session';

/** What came of signing in. */
export type SignIn =
  | { status: 'signed-in' }
  /** There was no code in the address. */
  | { status: 'not-asked' }
  | { status: 'refused'; reason: string };

/** The code in the fragment of an address, which no server gets to see. */
export function codeIn(hash: string): string | undefined {
  return /^#code=([A-Za-z0-9]+)$/.exec(hash)?.[1];
}

/** Turns the code in the page's address into a session, and takes it out of the address. For the
 * browser of another user it waits until the terminal was answered. */
export async function signIn(): Promise<SignIn> {
  const code = codeIn(location.hash);
  if (code === undefined) return { status: 'not-asked' };
  history.replaceState(null, '', location.pathname);
  try {
    const response = await fetch('/sign-in', { method: 'POST', body: JSON.stringify({ code }) });
    const answer = (await response.json()) as { session?: string; detail?: string };
    if (answer.session === undefined) {
      return { status: 'refused', reason: answer.detail ?? 'the service gave no reason' };
    }
    localStorage.setItem(KEY, answer.session);
    return { status: 'signed-in' };
  } catch {
    return { status: 'refused', reason: 'the service does not answer' };
  }
}

/** The headers that identify the session. */
export function authorization(): Record<string, string> {
  const session = localStorage.getItem(KEY);
  return session === null ? {} : { authorization: `Bearer ${session}` };
}

/** Forgets the session. */
export function forget(): void {
  localStorage.removeItem(KEY);
}
