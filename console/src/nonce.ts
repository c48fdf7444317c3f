import { setNonce } from 'get-nonce';

/** What the page's policy has for styles that scripts add; the service writes it into the page. */
export const nonce =
  document.querySelector<HTMLMetaElement>('meta[name=style-nonce]')?.content ?? undefined;

if (nonce !== undefined) setNonce(nonce);
