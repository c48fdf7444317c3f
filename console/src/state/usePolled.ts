import { useQuery } from '@tanstack/react-query';

/** Reads a list again and again while the page is visible. When the service is away, the list
 * stays: the notice about the connection says so. `key` names what is read. */
export function usePolled<T>(
  key: string,
  read: (signal: AbortSignal) => Promise<readonly T[]>,
  everyMs: number,
): readonly T[] {
  const { data } = useQuery({
    queryKey: [key],
    queryFn: ({ signal }) => read(signal),
    refetchInterval: everyMs,
  });
  return data ?? [];
}
