import { archivePath } from '../api/queries';
import type { Exchange, TrafficFilter } from '../api/types';
import { bytes, clock, duration, exactly, sentence, totalOf } from '../format';
import { Button } from '../shared/Button';
import { Choice } from '../shared/Choice';
import { DownloadButton } from '../shared/DownloadButton';
import { FilterField } from '../shared/Field';
import { Fault, Notice } from '../shared/Notice';
import { CELL, MONO, Table } from '../shared/Table';
import type { Place } from '../state/place';
import { setParams } from '../state/usePlace';
import { RequestDetails } from './RequestDetails';
import { useTraffic } from './useTraffic';

const STATUSES = [
  ['', 'Any status'],
  ['2xx', '2xx success'],
  ['3xx', '3xx redirect'],
  ['4xx', '4xx client error'],
  ['5xx', '5xx server error'],
] as const;
const METHODS = ['', 'GET', 'POST', 'PUT', 'PATCH', 'DELETE', 'HEAD', 'OPTIONS'].map(
  (method) => [method, method === '' ? 'Any method' : method] as const,
);

interface RequestsProps {
  /** The routes to choose from. */
  routes?: readonly string[];
  /** What is wanted whatever else is chosen. */
  fixed?: TrafficFilter;
  params: Place['params'];
}

/** Requests as they pass, newest first; the filter and the one that is looked at are in the address. */
export function Requests({ routes, fixed = {}, params }: RequestsProps) {
  const filter: TrafficFilter = {
    route: params.route,
    status: params.status,
    method: params.method,
    text: params.text,
    ...fixed,
  };
  const paused = params.paused === 'yes';
  const { exchanges, missed, refused, reading } = useTraffic(filter, paused);
  const chosen = exchanges.find(({ id }) => String(id) === params.request);
  return (
    <section aria-label="Requests">
      <form
        className="flex flex-wrap items-center gap-2"
        role="search"
        onSubmit={(event) => event.preventDefault()}
      >
        <FilterField
          label="Only with this text in name or path"
          placeholder="part of name or path"
          className="w-56"
          value={params.text ?? ''}
          onText={(text) => setParams({ text })}
        />
        {routes !== undefined && (
          <Choice
            label="Route"
            value={params.route ?? ''}
            options={[['', 'Every route'], ...routes.map((it) => [it, it] as const)]}
            onChoose={(route) => setParams({ route })}
          />
        )}
        <Choice
          label="Status"
          value={params.status ?? ''}
          options={[
            ...STATUSES,
            ...(params.status === undefined || STATUSES.some(([it]) => it === params.status)
              ? []
              : [[params.status, params.status] as const]),
          ]}
          onChoose={(status) => setParams({ status })}
        />
        <Choice
          label="Method"
          value={params.method ?? ''}
          options={METHODS}
          onChoose={(method) => setParams({ method })}
        />
        <div className="ml-auto flex gap-2">
          <Button
            onClick={() => setParams({ paused: paused ? undefined : 'yes' })}
            aria-pressed={paused}
          >
            {paused ? 'Resume' : 'Pause'}
          </Button>
          <DownloadButton name="bentlane.har" path={archivePath(filter)}>
            Save as HAR
          </DownloadButton>
        </div>
      </form>
      {refused !== undefined && <Fault>{sentence(refused)}</Fault>}
      <p role="status" className="min-h-5 text-[13px] text-muted">
        {paused && 'Paused: what passes meanwhile shows up when you resume. '}
        {missed > 0 && `${missed} more passed faster than they could be shown.`}
      </p>
      {chosen !== undefined && <RequestDetails exchange={chosen} />}
      {exchanges.length > 0 && (
        <Table
          titles={['Time', 'Status', 'Method', 'URL', 'Took', 'First byte', 'Sent']}
          label="Requests, newest first"
        >
          {exchanges.map((exchange) => (
            <RequestRow
              key={exchange.id}
              exchange={exchange}
              isChosen={exchange.id === chosen?.id}
            />
          ))}
        </Table>
      )}
      {exchanges.length === 0 && refused === undefined && (
        <Notice title={reading ? 'Reading …' : nothing(filter, fixed)}>
          {!reading && 'Open a route in a browser, and it shows up here.'}
        </Notice>
      )}
    </section>
  );
}

function nothing(filter: TrafficFilter, fixed: TrafficFilter): string {
  const chosen = Object.entries(filter).some(
    ([key, value]) => value !== undefined && fixed[key as keyof TrafficFilter] === undefined,
  );
  return chosen ? 'No request matches the filter' : 'No request yet';
}

const ENDINGS: Record<Exchange['ending'], string> = {
  whole: '',
  stream: 'a stream',
  upgraded: 'upgraded',
  'client-left': 'the client left early',
  'target-broke-off': 'the app broke off',
};

function RequestRow({ exchange, isChosen }: { exchange: Exchange; isChosen: boolean }) {
  const { finding, ending } = exchange;
  const words = finding ?? ENDINGS[ending];
  const bad = finding != null || ending === 'target-broke-off';
  return (
    <tr
      data-exchange={exchange.path}
      aria-current={isChosen ? 'true' : undefined}
      className="aria-[current]:bg-card"
    >
      <td className={`${MONO} text-muted`} title={exactly(exchange.at)}>
        {clock(exchange.at)}
      </td>
      <td className={`${CELL} font-semibold ${toneOf(exchange.status)}`}>{exchange.status}</td>
      <td className={CELL}>{exchange.method}</td>
      <td className={`${CELL} w-full min-w-56 break-all`}>
        <button
          type="button"
          className="cursor-pointer text-left underline-offset-4 hover:underline"
          aria-expanded={isChosen}
          onClick={() => setParams({ request: isChosen ? undefined : String(exchange.id) })}
        >
          <span className="text-muted">{exchange.name}</span>
          {exchange.path}
        </button>
        {words !== '' && (
          <span className={`ml-2 text-[13px] ${bad ? 'text-vermilion' : 'text-muted'}`}>
            {words}
          </span>
        )}
      </td>
      <td className={`${CELL} whitespace-nowrap`}>{duration(totalOf(exchange.timings))}</td>
      <td className={`${CELL} whitespace-nowrap text-muted`}>
        {duration(exchange.timings.first_byte_us)}
      </td>
      <td className={`${CELL} whitespace-nowrap`}>{bytes(exchange.sent)}</td>
    </tr>
  );
}

/** The colour of a status. */
export function toneOf(status: number): string {
  if (status >= 500) return 'text-vermilion';
  return status >= 400 ? 'text-ochre' : 'text-teal';
}
