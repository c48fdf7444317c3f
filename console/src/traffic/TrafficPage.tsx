import type { ReactNode } from 'react';
import { useState } from 'react';
import { Button } from '../Button';
import { CELL, Section, Table } from '../Section';
import { DownloadButton } from '../DownloadButton';
import { fetchArchive } from '../api/client';
import type { Exchange, Route, RouteTraffic, TrafficFilter } from '../api/types';
import { clock, duration, octets, perSecond, sentence, totalOf } from '../format';
import { useSummary, useTraffic } from './useTraffic';

/** What passes, live: each route in a line, and below every request with its answer. */
export function TrafficPage({ routes }: { routes: readonly Route[] }) {
  const summary = useSummary();
  const [filter, setFilter] = useState<TrafficFilter>({});
  const [paused, setPaused] = useState(false);
  const { exchanges, missed, refused, reading } = useTraffic(filter, paused);
  return (
    <div className="grid gap-10 py-6">
      {summary.length > 0 && <Summary routes={summary} />}
      <Section
        id="exchanges"
        title="Requests"
        beside={
          <Filter routes={routes} filter={filter} onChange={setFilter}>
            <Button onClick={() => setPaused(!paused)} aria-pressed={paused}>
              {paused ? 'Go on' : 'Hold still'}
            </Button>
            <DownloadButton name="bentlane.har" fetchFile={() => fetchArchive(filter)}>
              Save as HAR
            </DownloadButton>
          </Filter>
        }
      >
        {refused !== undefined && (
          <p role="alert" className="mt-3 text-vermilion">
            {sentence(refused)}
          </p>
        )}
        {missed > 0 && (
          <p className="mt-3 text-muted">{missed} more passed faster than they could be shown.</p>
        )}
        {exchanges.length > 0 && <Exchanges exchanges={exchanges} />}
        {exchanges.length === 0 && refused === undefined && (
          <p className="mt-3 text-muted">{reading ? 'Reading …' : nothing(filter)}</p>
        )}
      </Section>
    </div>
  );
}

function nothing(filter: TrafficFilter): string {
  const all = Object.values(filter).every((value) => value === undefined);
  return all
    ? 'Nothing has passed yet: open a route in a browser, and it shows up here.'
    : 'Nothing of that kind has passed.';
}

function Summary({ routes }: { routes: readonly RouteTraffic[] }) {
  return (
    <Section id="by-route" title="The last quarter of an hour">
      <Table
        titles={['Route', 'Requests', 'A second', 'Errors', 'Half within', '95 %', '99 %', 'Sent']}
      >
        {routes.map((route) => (
          <tr key={route.route ?? ''}>
            <td className={`${CELL} font-semibold`}>{route.route ?? 'no route'}</td>
            <td className={CELL}>{route.exchanges}</td>
            <td className={CELL}>{perSecond(route.per_second)}</td>
            <td className={`${CELL} ${route.errors > 0 ? 'font-semibold text-vermilion' : ''}`}>
              {route.errors}
            </td>
            <td className={CELL}>{duration(route.p50_us)}</td>
            <td className={CELL}>{duration(route.p95_us)}</td>
            <td className={CELL}>{duration(route.p99_us)}</td>
            <td className={CELL}>{octets(route.sent)}</td>
          </tr>
        ))}
      </Table>
    </Section>
  );
}

const FIELD = 'rounded-md border border-muted bg-card px-3 py-1 text-[14px]';

function Filter({
  routes,
  filter,
  onChange,
  children,
}: {
  routes: readonly Route[];
  filter: TrafficFilter;
  onChange: (filter: TrafficFilter) => void;
  children: ReactNode;
}) {
  const choose = (key: keyof TrafficFilter, value: string) =>
    onChange({ ...filter, [key]: value.trim() === '' ? undefined : value.trim() });
  return (
    <form
      className="flex grow flex-wrap items-center gap-3"
      role="search"
      onSubmit={(event) => event.preventDefault()}
    >
      <Choice
        label="Only of this route"
        value={filter.route}
        onChoose={(it) => choose('route', it)}
      >
        <option value="">every route</option>
        {routes.map((route) => (
          <option key={route.address}>{route.address}</option>
        ))}
      </Choice>
      <Choice
        label="Only with this status"
        value={filter.status}
        onChoose={(it) => choose('status', it)}
      >
        <option value="">every status</option>
        <option value="2xx">2xx done</option>
        <option value="3xx">3xx elsewhere</option>
        <option value="4xx">4xx the client’s</option>
        <option value="5xx">5xx the app’s</option>
      </Choice>
      <input
        className={`${FIELD} w-56 font-mono`}
        placeholder="part of name or path"
        aria-label="Only with this text"
        autoComplete="off"
        spellCheck={false}
        value={filter.text ?? ''}
        onChange={(event) => choose('text', event.target.value)}
      />
      <div className="ml-auto flex items-center gap-4">{children}</div>
    </form>
  );
}

function Choice({
  label,
  value,
  onChoose,
  children,
}: {
  label: string;
  value: string | undefined;
  onChoose: (value: string) => void;
  children: ReactNode;
}) {
  return (
    <select
      className={FIELD}
      aria-label={label}
      value={value ?? ''}
      onChange={(event) => onChoose(event.target.value)}
    >
      {children}
    </select>
  );
}

const ENDINGS: Record<Exchange['ending'], string> = {
  whole: '',
  stream: 'a stream, until somebody left',
  upgraded: 'changed its protocol, until somebody left',
  'client-left': 'the client left early',
  'target-broke-off': 'the app broke off',
};

function Exchanges({ exchanges }: { exchanges: readonly Exchange[] }) {
  return (
    <Table titles={['Time', 'Status', 'Method', 'What', 'Took', 'App', 'Sent']}>
      {exchanges.map((exchange) => (
        <tr key={exchange.id} data-exchange={exchange.path}>
          <td className={`${CELL} font-mono text-[14px] text-muted`}>{clock(exchange.at)}</td>
          <td className={`${CELL} font-semibold ${tone(exchange.status)}`}>{exchange.status}</td>
          <td className={CELL}>{exchange.method}</td>
          <td className={`${CELL} break-all`}>
            <span className="text-muted">{exchange.name}</span>
            {exchange.path}
            <Aside exchange={exchange} />
          </td>
          <td className={`${CELL} whitespace-nowrap`}>{duration(totalOf(exchange.timings))}</td>
          <td className={`${CELL} whitespace-nowrap text-muted`}>
            {duration(exchange.timings.first_byte_us)}
          </td>
          <td className={`${CELL} whitespace-nowrap`}>{octets(exchange.sent)}</td>
        </tr>
      ))}
    </Table>
  );
}

/** Why an answer is our own, or how it ended. */
function Aside({ exchange: { finding, ending } }: { exchange: Exchange }) {
  const words = finding ?? ENDINGS[ending];
  if (words === '') return null;
  const bad = finding !== undefined || ending === 'target-broke-off';
  return (
    <span className={`ml-2 text-[14px] ${bad ? 'text-vermilion' : 'text-muted'}`}>{words}</span>
  );
}

function tone(status: number): string {
  if (status >= 500) return 'text-vermilion';
  return status >= 400 ? 'text-amber' : 'text-teal';
}
