import { keepPreviousData, useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { Button } from '../Button';
import { CELL, Section, Table } from '../Section';
import { check, listVerdicts } from '../api/client';
import type { HopReport, Route, Verdict } from '../api/types';
import { clock, dayAndClock, duration, leadsTo, opens } from '../format';
import { Lane } from '../lane/Lane';
import { STATES } from '../lane/geometry';
import { FindingCard } from './FindingCard';
import { RouteSettings } from './RouteSettings';
import { SinceWhen } from './SinceWhen';
import { STRIP_HOURS, changeOf, spans, stateOf } from './history';

/** Changes that are listed below the strip. */
const LISTED = 12;
/** How long until a result of a check is in the database. */
const STORED_WITHIN_MS = 2_000;

interface RoutePageProps {
  route: Route;
  onChecked: (verdicts: readonly Verdict[]) => void;
}

/** One route: its lane, what each hop showed, what is wrong, and how it has been. */
export function RoutePage({ route, onChecked }: RoutePageProps) {
  const [deep, setDeep] = useState<Verdict>();
  const [checking, setChecking] = useState(false);
  // What a deep check found stands until the next check in the background finds something new.
  const verdict = deep ?? route.verdict;
  const checkNow = async (deeply: boolean) => {
    setChecking(true);
    try {
      const verdicts = await check([route.address], deeply);
      if (deeply) setDeep(verdicts[0]);
      else {
        setDeep(undefined);
        onChecked(verdicts);
      }
    } catch {
      // The connection's own notice says that the service is away.
    } finally {
      setChecking(false);
    }
  };
  return (
    <article className="grid gap-8 pt-6">
      <div>
        <p>
          <a className="text-muted underline decoration-rule underline-offset-4" href="#routes">
            All routes
          </a>
        </p>
        <div className="mt-2 flex flex-wrap items-baseline gap-x-4 gap-y-2">
          <h2 className="text-[24px] font-semibold break-all">{route.address}</h2>
          <p className="text-muted">{leadsTo(route.to)}</p>
          {opens(route) && (
            <a
              className="underline underline-offset-4"
              href={route.url}
              target="_blank"
              rel="noreferrer"
            >
              open
            </a>
          )}
          <div className="ml-auto flex gap-2">
            <Button onClick={() => void checkNow(false)} disabled={checking}>
              {checking ? 'Checking …' : 'Check now'}
            </Button>
            <Button onClick={() => void checkNow(true)} disabled={checking}>
              Check deeply
            </Button>
          </div>
        </div>
      </div>
      {verdict == null ? (
        <p className="text-muted">being checked …</p>
      ) : (
        <>
          <div>
            <Lane hops={verdict.hops} />
            {verdict.since != null && <SinceWhen since={verdict.since} />}
            {verdict.findings.map((finding) => (
              <FindingCard key={finding.slug} finding={finding} />
            ))}
          </div>
          <Section id="hops" title="What each hop showed">
            <Table titles={['Hop', 'State', 'Time', 'Seen']}>
              {verdict.hops.map((report) => (
                <HopRow key={report.hop} report={report} />
              ))}
            </Table>
          </Section>
        </>
      )}
      <RouteSettings route={route} />
      <History address={route.address} current={route.verdict ?? undefined} />
    </article>
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
          {seen.map((line) => (
            <li key={line} className="break-words">
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
  const { data, dataUpdatedAt, isError } = useQuery({
    queryKey: ['verdicts', address, current?.checked_at],
    queryFn: ({ signal }) => listVerdicts(address, signal),
    placeholderData: keepPreviousData,
    // A result that has just come is in the database a moment later.
    refetchInterval: ({ state }) => (state.dataUpdateCount < 2 ? STORED_WITHIN_MS : false),
  });
  return (
    <Section id="history" title={`The last ${STRIP_HOURS} hours`}>
      {data === undefined ? (
        <p className="mt-2 text-muted">
          {isError ? 'The database is away, so what was before is not known.' : 'Reading …'}
        </p>
      ) : (
        <>
          <Strip verdicts={data} now={dataUpdatedAt} />
          <Table titles={['When', 'State', 'What changed']}>
            {data.slice(0, LISTED).map((verdict) => (
              <tr key={verdict.checked_at}>
                <td className={`${CELL} whitespace-nowrap`}>{dayAndClock(verdict.checked_at)}</td>
                <td className={`${CELL} ${verdict.passed ? '' : 'text-vermilion'}`}>
                  {stateOf(verdict)}
                </td>
                <td className={`${CELL} w-full`}>{changeOf(verdict)}</td>
              </tr>
            ))}
          </Table>
        </>
      )}
    </Section>
  );
}

const FILLS = {
  passing: 'var(--teal)',
  broken: 'var(--vermilion)',
  flapping: 'var(--amber)',
} as const;

function Strip({ verdicts, now }: { verdicts: readonly Verdict[]; now: number }) {
  const laid = spans(verdicts, now);
  const words = laid.map((span) => span.state).join(', then ');
  return (
    <svg
      className="mt-3 h-7 w-full"
      viewBox="0 0 1000 28"
      preserveAspectRatio="none"
      role="img"
      aria-label={`the last day: ${words === '' ? 'nothing known' : words}`}
    >
      <rect width="1000" height="28" rx="4" fill="var(--rule)" opacity="0.5" />
      {laid.map((span) => (
        <rect
          key={span.verdict.checked_at}
          // Broken is drawn lower than passing, so that colour is not the only sign.
          x={span.from * 1000}
          y={span.state === 'broken' ? 12 : span.state === 'flapping' ? 6 : 2}
          width={Math.max((span.until - span.from) * 1000, 2)}
          height="14"
          fill={FILLS[span.state]}
        >
          <title>{`${clock(span.verdict.checked_at)}: ${changeOf(span.verdict)}`}</title>
        </rect>
      ))}
    </svg>
  );
}
