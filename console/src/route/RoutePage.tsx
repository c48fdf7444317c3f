import { useQuery } from '@tanstack/react-query';
import { statesQuery, verdictsQuery } from '../api/queries';
import type { App, HopReport, Machine, Route, Verdict } from '../api/types';
import { clock, duration, leadsTo, opens } from '../format';
import { Lane } from '../lane/Lane';
import { STATES } from '../lane/geometry';
import { StateStrip } from '../routes/StateStrip';
import { routeState } from '../routes/routeState';
import { useRouteActions } from '../routes/useRouteActions';
import { Output } from '../running/Output';
import { Button } from '../shared/Button';
import { FindingCard } from '../shared/FindingCard';
import { Moment } from '../shared/Moment';
import { Section } from '../shared/Section';
import { StateMark } from '../shared/StateMark';
import { CELL, Table } from '../shared/Table';
import { Tabs } from '../shared/Tabs';
import { useDeepCheck } from '../state/deepChecks';
import type { Place } from '../state/place';
import { pagePath } from '../state/place';
import { goTo, setParams } from '../state/usePlace';
import { Requests } from '../traffic/Requests';
import { RateChart } from '../traffic/RateChart';
import { RegisteredValues } from './RegisteredValues';
import { RouteSettings } from './RouteSettings';
import { ServedCertificate } from './ServedCertificate';
import { SinceWhen } from './SinceWhen';
import { STRIP_HOURS, changeOf, stateOf } from './history';

/** Changes that are listed below the strip. */
const LISTED = 30;
/** How long until a result of a check is in the database. */
const STORED_WITHIN_MS = 2_000;

interface RoutePageProps {
  route: Route;
  apps: readonly App[];
  machine: Machine | undefined;
  params: Place['params'];
}

type Tab = 'lane' | 'settings' | 'requests' | 'output' | 'certificate' | 'history' | 'values';

/** All of one route: its lane, what is wrong, how it is set, what it serves, and how it has been. */
export function RoutePage({ route, apps, machine, params }: RoutePageProps) {
  const actions = useRouteActions();
  const deep = useDeepCheck(route.address);
  const verdict = deep ?? route.verdict ?? undefined;
  const app = apps.find(({ name }) => route.to === `app:${name}`);
  const { tone, word } = routeState({ ...route, verdict }, machine?.passed === true);
  const isHttps = route.url.startsWith('https:');
  const tabs: (readonly [Tab, string])[] = [
    ['lane', 'Lane'],
    ['settings', 'Settings'],
    ['requests', 'Requests'],
    ...(app === undefined ? [] : [['output', 'Output'] as const]),
    ...(isHttps ? [['certificate', 'Certificate'] as const] : []),
    ['history', 'History'],
    ['values', 'Values elsewhere'],
  ];
  const tab = tabs.find(([known]) => known === params.tab)?.[0] ?? 'lane';
  return (
    <article className="pt-4">
      <p className="text-[14px]">
        <a
          className="text-muted underline decoration-rule underline-offset-4"
          href={pagePath('routes')}
        >
          All routes
        </a>
      </p>
      <div className="mt-1 mb-3 flex flex-wrap items-center gap-x-4 gap-y-2">
        <h1 className="text-[22px] font-semibold break-all">{route.address}</h1>
        <StateMark tone={tone} word={word} className="text-[15px] font-medium" />
        <p className="text-muted">{leadsTo(route.to)}</p>
        <div className="flex flex-wrap gap-2 sm:ml-auto">
          {opens(route) && (
            <a
              className="rounded-md border border-ink bg-ink px-2.5 py-1 text-[14px] font-medium text-paper hover:opacity-85"
              href={route.url}
              target="_blank"
              rel="noreferrer"
            >
              Open
            </a>
          )}
          <Button onClick={() => actions.check([route])} disabled={actions.isChecking}>
            {actions.isChecking ? 'Checking …' : 'Check now'}
          </Button>
          <Button onClick={() => actions.check([route], true)} disabled={actions.isChecking}>
            Check deeply
          </Button>
          {route.of_container == null && (
            <>
              <Button onClick={() => actions.pause(route)}>
                {route.settings.paused === true ? 'Resume' : 'Pause'}
              </Button>
              <Button
                onClick={() => {
                  actions.remove(route);
                  goTo(pagePath('routes'));
                }}
              >
                Remove
              </Button>
            </>
          )}
        </div>
      </div>
      {route.settings.note != null && <p className="mb-2 text-muted">“{route.settings.note}”</p>}
      <Tabs
        label="Parts of the route"
        tabs={tabs}
        current={tab}
        onChoose={(next) => setParams({ tab: next === 'lane' ? undefined : next }, 'step')}
      >
        {tab === 'lane' && <LaneTab verdict={verdict} isDeep={deep !== undefined} />}
        {tab === 'settings' && <RouteSettings key={route.address} route={route} />}
        {tab === 'requests' && (
          <div className="grid grid-cols-1 gap-6">
            <RateChart route={route.address} />
            <Requests fixed={{ route: route.address }} params={params} />
          </div>
        )}
        {tab === 'output' && app !== undefined && <Output name={app.name} params={params} />}
        {tab === 'certificate' && <ServedCertificate name={route.name} />}
        {tab === 'history' && (
          <History address={route.address} current={route.verdict ?? undefined} />
        )}
        {tab === 'values' && <RegisteredValues route={route} />}
      </Tabs>
    </article>
  );
}

function LaneTab({ verdict, isDeep }: { verdict: Verdict | undefined; isDeep: boolean }) {
  if (verdict === undefined) return <p className="text-muted">It is being checked.</p>;
  return (
    <div className="grid grid-cols-1 gap-5">
      <div>
        <Lane hops={verdict.hops} />
        <p className="mt-1 text-[13px] text-muted">
          {isDeep ? 'Checked deeply at ' : 'Checked at '}
          <Moment at={verdict.checked_at} />
          {isDeep && '; this stands until a check finds something else'}
        </p>
      </div>
      {verdict.since != null && <SinceWhen since={verdict.since} />}
      {verdict.findings.length > 0 && (
        <div className="grid grid-cols-1 gap-2">
          {verdict.findings.map((finding) => (
            <FindingCard key={finding.slug} finding={finding} />
          ))}
        </div>
      )}
      <Section id="hops" title="What each hop showed">
        <Table titles={['Hop', 'State', 'Time', 'Seen']} label="What each hop showed">
          {verdict.hops.map((report) => (
            <HopRow key={report.hop} report={report} />
          ))}
        </Table>
      </Section>
    </div>
  );
}

function HopRow({ report }: { report: HopReport }) {
  const seen = report.evidence ?? [];
  return (
    <tr data-hop={report.hop}>
      <td className={`${CELL} font-semibold`}>{report.hop}</td>
      <td
        className={`${CELL} whitespace-nowrap ${report.state === 'broken' ? 'text-vermilion' : ''}`}
      >
        {STATES[report.state]}
      </td>
      <td className={`${CELL} whitespace-nowrap`}>
        {report.micros == null ? '' : duration(report.micros)}
      </td>
      <td className={`${CELL} w-full`}>
        <p>{report.detail}</p>
        <ul className="font-mono text-[13px] text-muted">
          {seen.map((line, at) => (
            <li key={at} className="break-words">
              {line}
            </li>
          ))}
        </ul>
      </td>
    </tr>
  );
}

/** How a route has been: a strip of the last day, and its latest changes. */
function History({ address, current }: { address: string; current: Verdict | undefined }) {
  const states = useQuery(statesQuery());
  const { data, isError } = useQuery({
    ...verdictsQuery(address, current?.checked_at),
    // A result that has just come is in the database a moment later.
    refetchInterval: ({ state }) => (state.dataUpdateCount < 2 ? STORED_WITHIN_MS : false),
  });
  return (
    <Section id="history" title={`The last ${STRIP_HOURS} hours`}>
      <div className="mt-2 max-w-[60rem]">
        <StateStrip changes={states.data?.get(address) ?? []} now={states.dataUpdatedAt} />
        <p className="flex justify-between text-[13px] text-muted" aria-hidden="true">
          <span>{STRIP_HOURS} h ago</span>
          <span>{clock(new Date(states.dataUpdatedAt).toISOString())}</span>
        </p>
      </div>
      {data === undefined ? (
        <p className="mt-2 text-muted">
          {isError ? 'The database is away, so what was before is not known.' : 'Reading …'}
        </p>
      ) : (
        <Table titles={['When', 'State', 'What changed']}>
          {data.slice(0, LISTED).map((verdict) => (
            <tr key={verdict.checked_at}>
              <td className={CELL}>
                <Moment at={verdict.checked_at} />
              </td>
              <td className={`${CELL} ${verdict.passed ? '' : 'text-vermilion'}`}>
                {stateOf(verdict)}
              </td>
              <td className={`${CELL} w-full`}>{changeOf(verdict)}</td>
            </tr>
          ))}
        </Table>
      )}
    </Section>
  );
}
