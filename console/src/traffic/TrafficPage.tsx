import { useQuery } from '@tanstack/react-query';
import { summaryQuery } from '../api/queries';
import type { RouteTraffic } from '../api/types';
import { bytes, duration, perSecond } from '../format';
import { Notice } from '../shared/Notice';
import { CELL, Table } from '../shared/Table';
import { Tabs } from '../shared/Tabs';
import type { Place } from '../state/place';
import { pagePath } from '../state/place';
import { setParams } from '../state/usePlace';
import { RateChart } from './RateChart';
import { Requests } from './Requests';

type Tab = 'requests' | 'rates';
const TABS: readonly (readonly [Tab, string])[] = [
  ['requests', 'Requests'],
  ['rates', 'Rates'],
];

interface TrafficPageProps {
  /** The addresses of all routes. */
  routes: readonly string[];
  params: Place['params'];
}

/** What passes, live, request by request or as rates over time. */
export function TrafficPage({ routes, params }: TrafficPageProps) {
  const tab = params.tab === 'rates' ? 'rates' : 'requests';
  return (
    <div className="pt-4">
      <Tabs
        label="Traffic"
        tabs={TABS}
        current={tab}
        onChoose={(next) => setParams({ tab: next === 'requests' ? undefined : next }, 'step')}
      >
        {tab === 'requests' ? (
          <Requests routes={routes} params={params} />
        ) : (
          <Rates chosen={params.route} />
        )}
      </Tabs>
    </div>
  );
}

function Rates({ chosen }: { chosen: string | undefined }) {
  const { data } = useQuery(summaryQuery());
  const routes = data?.routes;
  return (
    <div className="grid grid-cols-1 gap-6">
      <RateChart route={chosen} />
      {routes?.length === 0 ? (
        <Notice title="Nothing has passed in the last 15 minutes">
          Open a route in a browser, and its rates show up here.
        </Notice>
      ) : (
        <Table
          titles={['Route', 'Requests', 'Per second', 'Errors', 'p50', 'p95', 'p99', 'Sent']}
          label="Routes in the last 15 minutes"
        >
          {routes?.map((route) => (
            <RateRow key={route.route ?? ''} route={route} chosen={chosen} />
          ))}
        </Table>
      )}
    </div>
  );
}

function RateRow({ route, chosen }: { route: RouteTraffic; chosen: string | undefined }) {
  const isChosen = chosen !== undefined && chosen === route.route;
  return (
    <tr aria-current={isChosen ? 'true' : undefined} className="aria-[current]:bg-card">
      <td className={`${CELL} font-semibold`}>
        {route.route == null ? (
          'no route'
        ) : (
          <a
            className="underline-offset-4 hover:underline"
            href={pagePath('traffic', {
              tab: 'rates',
              ...(isChosen ? {} : { route: route.route }),
            })}
          >
            {route.route}
          </a>
        )}
      </td>
      <td className={CELL}>{route.exchanges}</td>
      <td className={CELL}>{perSecond(route.per_second)}</td>
      <td className={`${CELL} ${route.errors > 0 ? 'font-semibold text-vermilion' : ''}`}>
        {route.errors}
      </td>
      <td className={CELL}>{duration(route.p50_us)}</td>
      <td className={CELL}>{duration(route.p95_us)}</td>
      <td className={CELL}>{duration(route.p99_us)}</td>
      <td className={CELL}>{bytes(route.sent)}</td>
    </tr>
  );
}
