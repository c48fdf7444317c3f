import { useMutation, useQueryClient } from '@tanstack/react-query';
import { actOnApp } from '../api/changes';
import { appsQuery } from '../api/queries';
import type { App } from '../api/types';
import { Button, IconButton } from '../shared/Button';
import { FindingCard } from '../shared/FindingCard';
import { Icon } from '../shared/Icon';
import { Moment } from '../shared/Moment';
import { Fault } from '../shared/Notice';
import type { Tone } from '../shared/StateMark';
import { StateMark } from '../shared/StateMark';
import { CELL, MONO } from '../shared/Table';
import type { Place } from '../state/place';
import { setParams } from '../state/usePlace';
import { reasonOf } from '../state/useChange';
import { Output } from './Output';
import { RouteLinks } from './RouteLinks';

type Act = 'start' | 'stop' | 'restart';

const STATES: Record<App['status']['state'], readonly [Tone, string]> = {
  running: ['good', 'running'],
  starting: ['waiting', 'starting'],
  stopping: ['waiting', 'stopping'],
  stopped: ['idle', 'stopped'],
  crashed: ['bad', 'crashed'],
  'crash-loop': ['bad', 'crash loop'],
};

interface AppRowProps {
  app: App;
  isOpen: boolean;
  params: Place['params'];
}

/** An app; unfolded, with what is wrong with it and what it prints. */
export function AppRow({ app, isOpen, params }: AppRowProps) {
  const client = useQueryClient();
  const act = useMutation({
    mutationFn: (act: Act) => actOnApp(app.name, act),
    onSettled: () => client.invalidateQueries({ queryKey: appsQuery().queryKey }),
  });
  const { status } = app;
  const [tone, word] = STATES[status.state];
  const runs = status.state === 'running' || status.state === 'starting';
  const button = (what: Act, title: string) => (
    <Button
      onClick={() => act.mutate(what)}
      disabled={act.isPending || status.state === 'stopping'}
      aria-label={`${title} ${app.name}`}
    >
      {title}
    </Button>
  );
  const toggle = () => setParams({ app: isOpen ? undefined : app.name, text: undefined }, 'step');
  return (
    <>
      <tr data-app={app.name} data-state={status.state}>
        <td className={CELL}>
          <span className="flex items-center gap-1">
            <IconButton
              label={`${isOpen ? 'Hide' : 'Show'} the output of ${app.name}`}
              aria-expanded={isOpen}
              onClick={toggle}
              className="!size-6"
            >
              <Icon name={isOpen ? 'unfolded' : 'folded'} />
            </IconButton>
            <span className="font-semibold">{app.name}</span>
          </span>
        </td>
        <td className={`${CELL} whitespace-nowrap`}>
          <StateMark tone={tone} word={status.by_hand === true ? `${word} by hand` : word} />
          {status.since != null && (
            <p className="text-[13px] text-muted">
              since <Moment at={status.since} />
            </p>
          )}
        </td>
        <td className={`${MONO} whitespace-nowrap`}>
          {status.listens?.[0] ?? Object.values(app.ports)[0]}
        </td>
        <td className={`${MONO} max-w-[28rem] break-words`}>{app.settings.command}</td>
        <td className={CELL}>
          <RouteLinks routes={app.routes} target={`app:${app.name}`} />
        </td>
        <td className={CELL}>
          <div className="flex justify-end gap-2">
            {runs ? button('restart', 'Restart') : button('start', 'Start')}
            {runs && button('stop', 'Stop')}
          </div>
        </td>
      </tr>
      {(isOpen || act.error !== null) && (
        <tr>
          <td colSpan={6} className="pb-5 pl-7">
            {act.error !== null && <Fault>{reasonOf(act.error)}</Fault>}
            {isOpen && (
              <div className="grid grid-cols-1 gap-2">
                {app.findings.map((finding) => (
                  <FindingCard key={finding.slug} finding={finding} />
                ))}
                <Output name={app.name} params={params} />
              </div>
            )}
          </td>
        </tr>
      )}
    </>
  );
}
