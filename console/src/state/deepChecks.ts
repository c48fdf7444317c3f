import type { QueryClient } from '@tanstack/react-query';
import { useQuery } from '@tanstack/react-query';
import type { Verdict } from '../api/types';

/** What a deep check of a route came to, and what was known of the route before it. */
interface DeepCheck {
  verdict: Verdict;
  /** What the ordinary checks came to then. */
  before: string;
}

const key = (address: string) => ['deep check', address];

/** What a verdict says, without when and how fast. */
export function gist({ passed, findings }: Verdict): string {
  return [passed, ...findings.map(({ slug }) => slug)].join(' ');
}

/** Keeps what a deep check came to. */
export function noteDeepCheck(
  client: QueryClient,
  verdict: Verdict,
  ordinary: Verdict | null | undefined,
): void {
  const before = ordinary == null ? '' : gist(ordinary);
  const check: DeepCheck = { verdict, before };
  client.setQueryData(key(verdict.address), check);
}

/** Forgets the deep check of a route when an ordinary one says something else than before it. */
export function forgetStaleDeepCheck(client: QueryClient, ordinary: Verdict): void {
  const kept = client.getQueryData<DeepCheck | null>(key(ordinary.address));
  if (kept != null && kept.before !== gist(ordinary)) {
    client.setQueryData(key(ordinary.address), null);
  }
}

/** What the latest deep check of a route came to, until a newer check says something else. */
export function useDeepCheck(address: string): Verdict | undefined {
  const { data } = useQuery<DeepCheck | null>({
    queryKey: key(address),
    queryFn: () => null,
    enabled: false,
    initialData: null,
    gcTime: Infinity,
  });
  return data?.verdict;
}
