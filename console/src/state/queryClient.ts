import { QueryClient } from '@tanstack/react-query';

/** Reads are not repeated when they fail: those that matter are made again at an interval, and the
 * notice about the connection says when the service is away. */
export const queryClient = new QueryClient({
  defaultOptions: {
    queries: { retry: false, refetchOnWindowFocus: true, networkMode: 'always' },
    mutations: { networkMode: 'always' },
  },
});
