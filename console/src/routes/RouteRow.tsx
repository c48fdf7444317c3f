import { useState } from 'react';
import { Button } from '../Button';
import { check } from '../api/client';
import type { Route, Verdict } from '../api/types';
import { leadsTo, opens } from '../format';
import { Lane } from '../lane/Lane';
import { routePath } from '../state/usePage';
import { FindingCard } from './FindingCard';

interface RouteRowProps {
  route: Route;
  onChecked: (verdicts: readonly Verdict[]) => void;
}

/** A route: where it leads, its lane, and what is wrong with it. */
export function RouteRow({ route, onChecked }: RouteRowProps) {
  const { verdict } = route;
  const [checking, setChecking] = useState(false);
  const checkNow = async () => {
    setChecking(true);
    try {
      onChecked(await check([route.address]));
    } catch {
      // The connection's own notice says that the service is away; the row stays as it is.
    } finally {
      setChecking(false);
    }
  };
  return (
    <li
      className="border-t border-rule py-4 first:border-t-0"
      data-address={route.address}
      data-passed={verdict?.passed}
    >
      <div className="grid items-start gap-x-6 gap-y-2 md:grid-cols-[minmax(0,1fr)_456px_auto]">
        <div className="min-w-0 pt-0.5">
          <RouteName route={route} />
          <p className="truncate text-[15px] text-muted">{leadsTo(route.to)}</p>
          {route.settings.paused === true && (
            <p className="text-[15px] font-semibold text-amber">paused</p>
          )}
          {verdict?.flapping === true && (
            <p className="text-[15px] font-semibold text-amber">flapping</p>
          )}
          {route.settings.note != null && (
            <p className="text-[15px] text-muted">“{route.settings.note}”</p>
          )}
        </div>
        {verdict == null ? (
          <p className="pt-1 text-muted">being checked …</p>
        ) : (
          <Lane hops={verdict.hops} />
        )}
        <Button
          onClick={() => void checkNow()}
          disabled={checking}
          aria-label={`Check ${route.address} now`}
        >
          {checking ? 'Checking …' : 'Check now'}
        </Button>
      </div>
      {verdict?.findings
        .filter((finding) => finding.severity !== 'hint')
        .map((finding) => (
          <FindingCard key={finding.slug} finding={finding} />
        ))}
    </li>
  );
}

function RouteName({ route }: { route: Route }) {
  return (
    <p className="flex min-w-0 items-baseline gap-3">
      <a
        className="truncate text-[18px] font-semibold underline decoration-rule underline-offset-4 hover:decoration-amber"
        href={routePath(route.address)}
      >
        {route.address}
      </a>
      {opens(route) && (
        <a
          className="text-[15px] text-muted underline decoration-rule underline-offset-4 hover:decoration-amber"
          href={route.url}
          target="_blank"
          rel="noreferrer"
          aria-label={`Open ${route.address}`}
        >
          open
        </a>
      )}
    </p>
  );
}
