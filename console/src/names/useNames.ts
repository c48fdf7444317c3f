import { useEffect, useState } from 'react';
import { listQueries, listRecords } from '../api/client';
import type { DnsRecord, Zone } from '../api/types';
import { usePolled } from '../state/usePolled';

/** How often what is asked is read again while the page is looked at. */
const AGAIN_MS = 1000;

/** The records of one's own, read again when the zones change, and what is asked, live. */
export function useNames(zones: readonly Zone[]) {
  const [records, setRecords] = useState<readonly DnsRecord[]>([]);
  const queries = usePolled(listQueries, AGAIN_MS);

  useEffect(() => {
    let current = true;
    // The connection's own notice says when the service is away; what is shown stays.
    listRecords().then(
      (found) => current && setRecords(found),
      () => undefined,
    );
    return () => {
      current = false;
    };
  }, [zones]);

  return { records, queries };
}
