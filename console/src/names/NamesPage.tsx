import { useQuery } from '@tanstack/react-query';
import { queriesQuery, recordsQuery, upstreamsQuery } from '../api/queries';
import type { Query, Zone } from '../api/types';
import { clock, duration, exactly } from '../format';
import { FilterField } from '../shared/Field';
import { Notice } from '../shared/Notice';
import { StateMark } from '../shared/StateMark';
import { CELL, MONO, Table } from '../shared/Table';
import { Tabs } from '../shared/Tabs';
import type { Place } from '../state/place';
import { setParams } from '../state/usePlace';
import { Explanation } from './Explanation';
import { Records } from './Records';
import { Zones } from './Zones';

type Tab = 'zones' | 'records' | 'queries' | 'upstreams';
const TABS: readonly (readonly [Tab, string])[] = [
  ['zones', 'Zones'],
  ['records', 'Records'],
  ['queries', 'Queries'],
  ['upstreams', 'Upstream resolvers'],
];

interface NamesPageProps {
  zones: readonly Zone[];
  params: Place['params'];
}

/** Zones, the records in them, what the resolver is asked and asks, and why it answers as it does. */
export function NamesPage({ zones, params }: NamesPageProps) {
  const { data: records = [] } = useQuery(recordsQuery());
  const tab = TABS.find(([known]) => known === params.tab)?.[0] ?? 'zones';
  return (
    <div className="grid grid-cols-1 gap-5 pt-4">
      <Explanation name={params.name ?? ''} zone={zones[0]?.name ?? 'moor.test'} />
      <Tabs
        label="Names"
        tabs={TABS}
        current={tab}
        onChoose={(next) => setParams({ tab: next === 'zones' ? undefined : next }, 'step')}
      >
        {tab === 'zones' && <Zones zones={zones} edited={params.zone} />}
        {tab === 'records' && <Records records={records} zone={zones[0]?.name ?? 'moor.test'} />}
        {tab === 'queries' && <QueryLog part={params.text ?? ''} />}
        {tab === 'upstreams' && <UpstreamList />}
      </Tabs>
    </div>
  );
}

const OUTCOMES: Record<Query['outcome'], string> = {
  ours: 'from the zones',
  kept: 'from the cache',
  forwarded: 'asked upstream',
  blocked: 'blocked: an upstream resolver gave a local address',
  refused: 'refused',
};

function QueryLog({ part }: { part: string }) {
  const { data } = useQuery(queriesQuery());
  const wanted = part.trim().toLowerCase();
  const shown = data?.queries.filter((query) => query.name.includes(wanted)) ?? [];
  return (
    <>
      <FilterField
        label="Show names with this text"
        placeholder="part of a name"
        className="w-64"
        value={part}
        onText={(text) => setParams({ text })}
      />
      {data !== undefined && shown.length === 0 ? (
        <Notice title={wanted === '' ? 'No query yet' : 'No name that was asked for has this text'}>
          Questions that programs ask the resolver show up here as they come.
        </Notice>
      ) : (
        <Table titles={['Time', 'Name', 'Type', 'Answer', 'Source', 'Asked by']} label="Queries">
          {shown.map((query, place) => (
            <tr key={`${query.at} ${query.name} ${query.type} ${place}`}>
              <td className={`${MONO} text-muted`} title={exactly(query.at)}>
                {clock(query.at)}
              </td>
              <td className={`${CELL} break-all`}>{query.name}</td>
              <td className={CELL}>{query.type}</td>
              <td className={`${CELL} ${query.outcome === 'refused' ? 'text-vermilion' : ''}`}>
                {query.code ?? ''}
              </td>
              <td className={`${CELL} text-muted`}>{OUTCOMES[query.outcome]}</td>
              <td className={`${CELL} text-muted`}>
                {query.process != null && `${query.process} (${query.pid})`}
              </td>
            </tr>
          ))}
        </Table>
      )}
    </>
  );
}

function UpstreamList() {
  const { data } = useQuery(upstreamsQuery());
  if (data?.length === 0) {
    return (
      <Notice title="No upstream resolver">
        The resolver answers for its zones alone. <code className="font-mono">upstreams</code> in
        the service’s settings names others to ask for everything else.
      </Notice>
    );
  }
  return (
    <Table
      titles={['Resolver', 'State', 'Answered', 'Failed', 'Last answer took']}
      label="Upstream resolvers"
    >
      {data?.map(({ address, answered, failed, error, took_us }) => (
        <tr key={address}>
          <td className={MONO}>{address}</td>
          <td className={CELL}>
            {error != null ? (
              <StateMark tone="bad" word={error} />
            ) : answered > 0 ? (
              <StateMark tone="good" word="answers" />
            ) : (
              <StateMark tone="idle" word="not asked yet" />
            )}
          </td>
          <td className={CELL}>{answered}</td>
          <td className={CELL}>{failed}</td>
          <td className={CELL}>{took_us == null ? '' : duration(took_us)}</td>
        </tr>
      ))}
    </Table>
  );
}
