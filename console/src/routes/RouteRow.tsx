import type { KeyboardEvent } from 'react';
import type { Route, StateChange, Verdict } from '../api/types';
import { duration, leadsTo, opens } from '../format';
import { LaneSmall } from '../lane/Lane';
import { IconButton } from '../shared/Button';
import { FindingCard } from '../shared/FindingCard';
import { Icon } from '../shared/Icon';
import { StateMark } from '../shared/StateMark';
import { Tip } from '../shared/Tip';
import { useDeepCheck } from '../state/deepChecks';
import { routePath } from '../state/place';
import { goTo } from '../state/usePlace';
import { RouteMenu } from './RouteMenu';
import { StateStrip } from './StateStrip';
import { answerTime, routeState } from './routeState';
import { useRouteActions } from './useRouteActions';

/** The columns of a row, which the titles above have, too. */
export const COLUMNS =
  'grid grid-cols-[24px_minmax(0,1fr)_auto] items-center gap-x-3 md:grid-cols-[24px_94px_minmax(12rem,2.2fr)_minmax(7rem,1.5fr)_minmax(10rem,1.2fr)_60px_minmax(5rem,1fr)_60px]';

interface RouteRowProps {
  route: Route;
  changes: readonly StateChange[];
  now: number;
  reached: boolean;
  isOpen: boolean;
  onToggle: () => void;
}

/** A route in a line: its lane, where it leads, how it is and was. Unfolded it shows what is wrong. */
export function RouteRow({ route, changes, now, reached, isOpen, onToggle }: RouteRowProps) {
  const actions = useRouteActions();
  const deep = useDeepCheck(route.address);
  const verdict = deep ?? route.verdict ?? undefined;
  const { tone, word } = routeState({ ...route, verdict }, reached);
  const took = answerTime(verdict);
  const isBusy = actions.isChecking;
  const onKeyDown = (event: KeyboardEvent) => {
    // Keys of the row's buttons and of its text are theirs.
    if (event.target !== event.currentTarget || event.ctrlKey || event.metaKey || event.altKey) {
      return;
    }
    const acts: Record<string, (() => void) | undefined> = {
      Enter: onToggle,
      ' ': onToggle,
      ArrowRight: isOpen ? undefined : onToggle,
      ArrowLeft: isOpen ? onToggle : undefined,
      o: opens(route) ? () => window.open(route.url, '_blank', 'noreferrer') : undefined,
      u: () => actions.copyUrl(route),
      c: () => actions.check([route]),
      e: () => goTo(routePath(route.address, { tab: 'settings' })),
      p: route.of_container == null ? () => actions.pause(route) : undefined,
    };
    const act = acts[event.key];
    if (act === undefined) return;
    event.preventDefault();
    act();
  };
  return (
    <div data-address={route.address} data-passed={verdict?.passed}>
      {/* The row has the keys that its menu names; everything is reached without them, too. */}
      {/* eslint-disable-next-line jsx-a11y/no-noninteractive-element-interactions */}
      <div
        role="group"
        aria-label={route.address}
        // eslint-disable-next-line jsx-a11y/no-noninteractive-tabindex -- arrows and letters act on the row
        tabIndex={0}
        data-row
        className={`${COLUMNS} min-h-[29px] rounded border-t border-rule px-1 text-[14px] hover:bg-card`}
        onKeyDown={onKeyDown}
      >
        <IconButton
          label={`${isOpen ? 'Fold' : 'Unfold'} ${route.address}`}
          aria-expanded={isOpen}
          tabIndex={-1}
          onClick={onToggle}
          className="!size-6"
        >
          <Icon name={isOpen ? 'unfolded' : 'folded'} />
        </IconButton>
        <div className="max-md:hidden">
          {verdict === undefined ? null : <LaneSmall hops={verdict.hops} />}
        </div>
        <p className="flex min-w-0 items-baseline gap-2">
          <a
            className="truncate font-semibold underline-offset-4 hover:underline"
            href={routePath(route.address)}
            title={route.settings.note ?? undefined}
          >
            {route.address}
          </a>
          {deep !== undefined && <span className="text-[12px] text-muted">checked deeply</span>}
        </p>
        <p
          className="truncate font-mono text-[13px] text-muted max-md:hidden"
          title={leadsTo(route.to)}
        >
          {route.to}
        </p>
        <p className="min-w-0 max-md:col-start-2 max-md:row-start-2 max-md:pb-1.5">
          <StateMark tone={tone} word={isBusy ? 'checking …' : word} />
        </p>
        <p className="text-right text-[13px] text-muted tabular-nums max-md:hidden">
          {took === undefined ? '' : duration(took)}
        </p>
        <div className="max-md:hidden">
          <StateStrip changes={changes} now={now} />
        </div>
        <div className="flex justify-end max-md:col-start-3 max-md:row-span-2 max-md:row-start-1">
          {opens(route) && (
            <Tip text={route.url}>
              <a
                className="inline-flex size-7 items-center justify-center rounded-md border border-transparent hover:border-rule"
                href={route.url}
                target="_blank"
                rel="noreferrer"
                aria-label={`Open ${route.address}`}
              >
                <Icon name="open" />
              </a>
            </Tip>
          )}
          <RouteMenu route={route} actions={actions} />
        </div>
      </div>
      {isOpen && <Unfolded route={route} verdict={verdict} />}
    </div>
  );
}

/** What is wrong with a route; hints, which mostly are about this machine, are on its page. */
function Unfolded({ route, verdict }: { route: Route; verdict: Verdict | undefined }) {
  const findings = verdict?.findings.filter(({ severity }) => severity !== 'hint') ?? [];
  const hints = (verdict?.findings.length ?? 0) - findings.length;
  return (
    <div className="grid grid-cols-1 gap-2 pt-1 pb-3 pl-7 text-[14px]">
      {findings.map((finding) => (
        <FindingCard key={finding.slug} finding={finding} />
      ))}
      <p className="text-muted">
        {verdict === undefined
          ? 'It is being checked. '
          : findings.length === 0
            ? 'No hop is broken. '
            : ''}
        {hints > 0 && `${hints} ${hints === 1 ? 'hint' : 'hints'} more. `}
        <a className="underline underline-offset-4" href={routePath(route.address)}>
          What each hop showed
        </a>
      </p>
    </div>
  );
}
