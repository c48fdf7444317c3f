import { keepPreviousData, useQuery } from '@tanstack/react-query';
import { listCertificates, listStores, showAuthority } from '../api/client';
import type { Zone } from '../api/types';

/** How often it is read while the page is visible: trust stores change outside of the console. */
const READ_MS = 5000;

/** The authority, which trust stores hold its root, and the certificate of each name. */
export function useCertificates(zones: readonly Zone[]) {
  const read = { refetchInterval: READ_MS, placeholderData: keepPreviousData };
  const authority = useQuery({
    queryKey: ['authority', zones],
    queryFn: ({ signal }) => showAuthority(signal),
    ...read,
  });
  const stores = useQuery({
    queryKey: ['stores', zones],
    queryFn: ({ signal }) => listStores(signal),
    ...read,
  });
  const certificates = useQuery({
    queryKey: ['certificates', zones],
    queryFn: ({ signal }) => listCertificates(signal),
    ...read,
  });
  return {
    authority: authority.data,
    stores: stores.data,
    certificates: certificates.data ?? [],
  };
}
