import { useQuery } from '@tanstack/react-query';
import { useEffect, useMemo, useState } from 'react';
import { statesQuery } from '../api/queries';
import type { Machine, Route, StateChange, Zone } from '../api/types';
import { Button } from '../shared/Button';
import { Choice } from '../shared/Choice';
import { FilterField } from '../shared/Field';
import { Notice } from '../shared/Notice';
import type { Place } from '../state/place';
import { setParams } from '../state/usePlace';
import { MachineNotice } from './MachineNotice';
import { RouteList } from './RouteList';
import type { GroupBy } from './listing';
import { linesOf } from './listing';
import { useRouteActions } from './useRouteActions';

const GROUPS: readonly (readonly [GroupBy, string])[] = [
  ['project', 'By project'],
  ['zone', 'By zone'],
  ['none', 'Not grouped'],
];

/** How often the strips move on. */
const MINUTE_MS = 60_000;
const NONE: ReadonlyMap<string, readonly StateChange[]> = new Map();

interface RoutesPageProps {
  routes: readonly Route[];
  zones: readonly Zone[];
  machine: Machine | undefined;
  params: Place['params'];
}

/** Every route in a line, with what is broken first. */
export function RoutesPage({ routes, zones, machine, params }: RoutesPageProps) {
  const { data: states = NONE } = useQuery(statesQuery());
  const actions = useRouteActions();
  const now = useMinute();
  const reached = machine?.passed === true;
  const text = params.text ?? '';
  const hasProjects = routes.some(({ project }) => project != null);
  const by =
    GROUPS.find(([known]) => known === params.by)?.[0] ?? (hasProjects ? 'project' : 'none');
  const wanted = text.trim();
  const zoneNames = useMemo(() => zones.map(({ name }) => name), [zones]);
  const lines = useMemo(
    () => linesOf(routes, wanted, by, zoneNames, reached),
    [routes, wanted, by, zoneNames, reached],
  );
  const open = useMemo(
    () => new Set((params.open ?? '').split(' ').filter(Boolean)),
    [params.open],
  );
  const toggle = (address: string) => {
    const next = new Set(open);
    if (!next.delete(address)) next.add(address);
    setParams({ open: [...next].join(' ') });
  };
  const shown = lines.flatMap((line) => (line.type === 'route' ? [line.route] : []));
  return (
    <div className="pt-3">
      <MachineNotice machine={machine} />
      <div className="mb-2 flex flex-wrap items-center gap-2" role="search">
        <FilterField
          label="Show routes with this text"
          placeholder="name, target, state …"
          className="w-64 max-sm:w-full"
          value={text}
          onText={(next) => setParams({ text: next })}
        />
        <Choice
          label="Groups"
          value={by}
          options={GROUPS}
          onChoose={(next) => setParams({ by: next })}
        />
        <Button
          disabled={actions.isChecking || shown.length === 0}
          onClick={() => actions.check(shown.length === routes.length ? [] : shown)}
        >
          {actions.isChecking
            ? 'Checking …'
            : wanted === ''
              ? 'Check all'
              : `Check these ${shown.length}`}
        </Button>
        <p role="status" className="text-[13px] text-muted">
          {wanted === '' ? '' : `${shown.length} of ${routes.length}`}
        </p>
        <Button
          kind="primary"
          className="ml-auto"
          onClick={() => setParams({ add: 'route' }, 'step')}
        >
          Add route
        </Button>
      </div>
      {routes.length === 0 ? (
        <Notice title="No route yet">
          Add one with the button above, or run{' '}
          <code className="font-mono">bentlane route add NAME PORT</code> in a terminal.
        </Notice>
      ) : lines.length === 0 ? (
        <Notice title="No route has this text">
          <Button onClick={() => setParams({ text: undefined })}>Show all {routes.length}</Button>
        </Notice>
      ) : (
        <RouteList
          lines={lines}
          states={states}
          now={now}
          reached={reached}
          open={open}
          onToggle={toggle}
        />
      )}
    </div>
  );
}

/** The time, anew each minute. */
function useMinute(): number {
  const [now, setNow] = useState(() => Date.now());
  useEffect(() => {
    const timer = setInterval(() => setNow(Date.now()), MINUTE_MS);
    return () => clearInterval(timer);
  }, []);
  return now;
}
