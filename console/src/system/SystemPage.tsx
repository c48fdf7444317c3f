import type { Machine } from '../api/types';
import { Tabs } from '../shared/Tabs';
import type { Place } from '../state/place';
import { setParams } from '../state/usePlace';
import { Guides } from './Guides';
import { MachineTab } from './MachineTab';
import { ServiceTab } from './ServiceTab';
import { SessionsTab } from './SessionsTab';

type Tab = 'service' | 'machine' | 'guides' | 'sessions';
const TABS: readonly (readonly [Tab, string])[] = [
  ['service', 'Service'],
  ['machine', 'This machine'],
  ['guides', 'Other systems'],
  ['sessions', 'Sessions'],
];

interface SystemPageProps {
  machine: Machine | undefined;
  params: Place['params'];
  onSignedOut: () => void;
}

/** The service itself, the machine that it runs on, and who is signed in. */
export function SystemPage({ machine, params, onSignedOut }: SystemPageProps) {
  const tab = TABS.find(([known]) => known === params.tab)?.[0] ?? 'service';
  return (
    <div className="pt-4">
      <Tabs
        label="System"
        tabs={TABS}
        current={tab}
        onChoose={(next) => setParams({ tab: next === 'service' ? undefined : next }, 'step')}
      >
        {tab === 'service' && <ServiceTab />}
        {tab === 'machine' && <MachineTab machine={machine} />}
        {tab === 'guides' && <Guides system={params.for} />}
        {tab === 'sessions' && <SessionsTab onSignedOut={onSignedOut} />}
      </Tabs>
    </div>
  );
}
