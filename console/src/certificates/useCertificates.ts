import { useEffect, useState } from 'react';
import { listCertificates, listStores, showAuthority } from '../api/client';
import type { Authority, Certificate, TrustStore, Zone } from '../api/types';

/** How often it is looked again while the page is open: stores are changed outside of it. */
const AGAIN_MS = 5000;

/** The authority, who trusts it, and what is shown under which name. */
export function useCertificates(zones: readonly Zone[]) {
  const [authority, setAuthority] = useState<Authority>();
  const [stores, setStores] = useState<readonly TrustStore[]>();
  const [certificates, setCertificates] = useState<readonly Certificate[]>([]);

  useEffect(() => {
    let current = true;
    let timer: ReturnType<typeof setTimeout> | undefined;
    const read = async () => {
      // The connection's own notice says when the service is away; what is shown stays.
      const keep = <T>(set: (found: T) => void) =>
        [(found: T) => current && set(found), () => undefined] as const;
      if (!document.hidden) {
        await Promise.all([
          showAuthority().then(...keep(setAuthority)),
          listCertificates().then(...keep(setCertificates)),
          listStores().then(...keep(setStores)),
        ]);
      }
      if (current) timer = setTimeout(() => void read(), AGAIN_MS);
    };
    void read();
    return () => {
      current = false;
      clearTimeout(timer);
    };
  }, [zones]);

  return { authority, stores, certificates };
}
