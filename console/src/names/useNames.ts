import { keepPreviousData, useQuery } from '@tanstack/react-query';
import { listQueries, listRecords } from '../api/client';
import type { Zone } from '../api/types';
import { usePolled } from '../state/usePolled';

/** How often the query log is read while the page is visible. */
const READ_QUERIES_MS = 1000;

/** The user's own records, read again when the zones change, and the latest queries. */
export function useNames(zones: readonly Zone[]) {
  const queries = usePolled('queries', listQueries, READ_QUERIES_MS);
  const { data: records } = useQuery({
    queryKey: ['records', zones],
    queryFn: ({ signal }) => listRecords(signal),
    placeholderData: keepPreviousData,
  });
  return { records: records ?? [], queries };
}
