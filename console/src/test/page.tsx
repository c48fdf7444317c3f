import { QueryClient, QueryClientProvider } from '@tanstack/react-query';
import * as Tooltip from '@radix-ui/react-tooltip';
import { cleanup, render } from '@testing-library/react';
import userEvent from '@testing-library/user-event';
import type { ReactNode } from 'react';
import { afterEach, vi } from 'vitest';
import { Toasts } from '../shared/Toasts';

/** A call of the API that a component made. */
export interface Call {
  method: string;
  path: string;
  body: unknown;
}

// What jsdom lacks, and parts of the page ask for.
Element.prototype.hasPointerCapture ??= () => false;
Element.prototype.scrollIntoView ??= () => undefined;

afterEach(() => {
  cleanup();
  vi.unstubAllGlobals();
  location.hash = '';
});

/** Draws a part of a page, with everything around it that it relies on. Calls of the API are answered by
 * `answer`, whose result is the content, or an error's status. */
export function show(part: ReactNode, answer: (call: Call) => unknown = () => ({})) {
  const calls: Call[] = [];
  vi.stubGlobal('fetch', (url: string, { method = 'GET', body }: RequestInit = {}) => {
    const call = {
      method,
      path: url.replace('/api/v1', ''),
      body: typeof body === 'string' ? (JSON.parse(body) as unknown) : undefined,
    };
    calls.push(call);
    const content = answer(call);
    const status = typeof content === 'number' ? content : 200;
    const problem = { title: 'no', status, detail: 'it is not possible' };
    return Promise.resolve(
      new Response(JSON.stringify(status === 200 ? content : problem), {
        status,
        headers: { 'content-type': 'application/json' },
      }),
    );
  });
  const client = new QueryClient({ defaultOptions: { queries: { retry: false } } });
  render(
    <QueryClientProvider client={client}>
      <Toasts>
        <Tooltip.Provider>{part}</Tooltip.Provider>
      </Toasts>
    </QueryClientProvider>,
  );
  return { calls, user: userEvent.setup(), client };
}
