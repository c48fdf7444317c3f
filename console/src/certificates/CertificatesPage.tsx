import { useQuery } from '@tanstack/react-query';
import { authorityQuery, certificatesQuery, storesQuery } from '../api/queries';
import type { Zone } from '../api/types';
import { Tabs } from '../shared/Tabs';
import type { Place } from '../state/place';
import { setParams } from '../state/usePlace';
import { AuthorityTab } from './AuthorityTab';
import { Files } from './Files';
import { Served } from './Served';
import { Stores } from './Stores';

type Tab = 'authority' | 'stores' | 'served' | 'files';
const TABS: readonly (readonly [Tab, string])[] = [
  ['authority', 'Authority'],
  ['stores', 'Trust stores'],
  ['served', 'Served'],
  ['files', 'Files and requests'],
];

interface CertificatesPageProps {
  zones: readonly Zone[];
  params: Place['params'];
}

/** The root, who trusts it, which certificate each name has, and certificates for other servers. */
export function CertificatesPage({ zones, params }: CertificatesPageProps) {
  const authority = useQuery(authorityQuery());
  const certificates = useQuery(certificatesQuery());
  const stores = useQuery(storesQuery());
  const tab = TABS.find(([known]) => known === params.tab)?.[0] ?? 'authority';
  return (
    <div className="pt-4">
      <Tabs
        label="Certificates"
        tabs={TABS}
        current={tab}
        onChoose={(next) => setParams({ tab: next === 'authority' ? undefined : next }, 'step')}
      >
        {tab === 'authority' && <AuthorityTab authority={authority.data} />}
        {tab === 'stores' && <Stores stores={stores.data} />}
        {tab === 'served' && (
          <Served authority={authority.data} certificates={certificates.data?.certificates ?? []} />
        )}
        {tab === 'files' && (
          <Files
            exported={certificates.data?.exported ?? []}
            zone={zones[0]?.name ?? 'moor.test'}
          />
        )}
      </Tabs>
    </div>
  );
}
