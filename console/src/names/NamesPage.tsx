import { useState } from 'react';
import type { Query, DnsRecord, Zone } from '../api/types';
import { CELL, Section, Table } from '../Section';
import { clock, inOneLine, resolvesTo } from '../format';
import { ZoneForm } from './ZoneForm';
import { useNames } from './useNames';

/** Zones, the records in them, and what the resolver is asked, live. */
export function NamesPage({ zones }: { zones: readonly Zone[] }) {
  const { records, queries } = useNames(zones);
  return (
    <div className="grid gap-10 py-6">
      <Zones zones={zones} />
      {records.length > 0 && <Records records={records} />}
      <Queries queries={queries} />
    </div>
  );
}

function Zones({ zones }: { zones: readonly Zone[] }) {
  return (
    <Section id="zones" title="Zones">
      <Table titles={['Every name at and below', 'Resolves to', 'TTL', 'Routes']}>
        {zones.map((zone) => (
          <tr key={zone.name}>
            <td className={CELL}>
              <span className="font-semibold">{zone.name}</span>
              {zone.advice !== undefined && zone.advice.length > 0 && (
                <p className="max-w-[42ch] text-[14px] text-muted">{inOneLine(zone.advice)}</p>
              )}
            </td>
            <td className={CELL}>{resolvesTo(zone.settings)}</td>
            <td className={CELL}>{zone.settings.ttl} s</td>
            <td className={CELL}>{zone.routes}</td>
          </tr>
        ))}
      </Table>
      <div className="mt-5">
        <ZoneForm />
      </div>
    </Section>
  );
}

function Records({ records }: { records: readonly DnsRecord[] }) {
  return (
    <Section id="records" title="Your records">
      <Table titles={['Owner', 'Type', 'Data', 'TTL']}>
        {records.map((record) => (
          <tr key={`${record.owner} ${record.type} ${record.data}`}>
            <td className={CELL}>{record.owner}</td>
            <td className={CELL}>{record.type}</td>
            <td className={`${CELL} font-mono text-[14px] break-all`}>{record.data}</td>
            <td className={CELL}>{record.ttl} s</td>
          </tr>
        ))}
      </Table>
    </Section>
  );
}

const OUTCOMES: Record<Query['outcome'], string> = {
  ours: 'from the zones',
  kept: 'known already',
  forwarded: 'asked upstream',
  blocked: 'blocked: local address',
  refused: 'not answered',
};

function Queries({ queries }: { queries: readonly Query[] }) {
  const [part, setPart] = useState('');
  const shown = queries.filter((query) => query.name.includes(part.trim().toLowerCase()));
  return (
    <Section
      id="queries"
      title="Queries"
      beside={
        <input
          className="w-64 rounded-md border border-muted bg-card px-3 py-1 font-mono text-[14px]"
          placeholder="part of a name"
          aria-label="Show names with this part"
          autoComplete="off"
          spellCheck={false}
          value={part}
          onChange={(event) => setPart(event.target.value)}
        />
      }
    >
      {shown.length === 0 ? (
        <p className="mt-3 text-muted">
          {queries.length === 0
            ? 'Nothing was asked yet.'
            : 'No name that was asked has this part.'}
        </p>
      ) : (
        <Table titles={['Time', 'Name', 'Type', 'Answer', '', 'Asked by']}>
          {shown.map((query, place) => (
            <tr key={`${query.at} ${query.name} ${query.type} ${place}`}>
              <td className={`${CELL} font-mono text-[14px] text-muted`}>{clock(query.at)}</td>
              <td className={`${CELL} break-all`}>{query.name}</td>
              <td className={CELL}>{query.type}</td>
              <td className={`${CELL} ${query.outcome === 'refused' ? 'text-vermilion' : ''}`}>
                {query.code ?? ''}
              </td>
              <td className={`${CELL} text-muted`}>{OUTCOMES[query.outcome]}</td>
              <td className={`${CELL} text-muted`}>
                {query.process !== undefined && `${query.process} (${query.pid})`}
              </td>
            </tr>
          ))}
        </Table>
      )}
    </Section>
  );
}
