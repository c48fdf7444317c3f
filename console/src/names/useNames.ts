import { useEffect, useState } from 'react';
import { listQueries, listRecords } from '../api/client';
import type { Query, RecordOfOnesOwn, Zone } from '../api/types';

/** How often what is asked is read again while the page is looked at. */
const AGAIN_MS = 1000;

/** The records of one's own, read again when the zones change, and what is asked, live. */
export function useNames(zones: readonly Zone[]) {
  const [records, setRecords] = useState<readonly RecordOfOnesOwn[]>([]);
  const [queries, setQueries] = useState<readonly Query[]>([]);

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

  useEffect(() => {
    let current = true;
    const read = () => {
      if (document.hidden) return;
      listQueries().then(
        (found) => current && setQueries(found),
        () => undefined,
      );
    };
    read();
    const timer = setInterval(read, AGAIN_MS);
    return () => {
      current = false;
      clearInterval(timer);
    };
  }, []);

  return { records, queries };
}
