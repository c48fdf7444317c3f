import { useMutation, useQueryClient } from '@tanstack/react-query';
import { actOnContainer } from '../api/changes';
import { containersQuery } from '../api/queries';
import type { Container } from '../api/types';
import { Button } from '../shared/Button';
import { FindingCard } from '../shared/FindingCard';
import { Fault } from '../shared/Notice';
import { StateMark } from '../shared/StateMark';
import { CELL, MONO } from '../shared/Table';
import { reasonOf } from '../state/useChange';
import { RouteLinks } from './RouteLinks';
import { portsOf, stateOf } from './containers';

/** A container, with its routes, and what is wrong with it. */
export function ContainerRow({ container }: { container: Container }) {
  const client = useQueryClient();
  const act = useMutation({
    mutationFn: (act: 'start' | 'stop') => actOnContainer(container.name, act),
    onSettled: () => client.invalidateQueries({ queryKey: containersQuery().queryKey }),
  });
  const { tone, word } = stateOf(container);
  const what = container.running ? 'stop' : 'start';
  const title = container.running ? 'Stop' : 'Start';
  const mayHaveRoute = container.route_command != null;
  return (
    <>
      <tr data-container={container.name} data-state={container.running ? 'running' : 'stopped'}>
        <td className={CELL}>
          <p className="font-semibold">{container.name}</p>
          {container.project != null && (
            <p className="text-[13px] text-muted">
              {container.service} of {container.project}
            </p>
          )}
        </td>
        <td className={`${CELL} whitespace-nowrap`}>
          <StateMark tone={tone} word={word} />
        </td>
        <td className={MONO}>{portsOf(container)}</td>
        <td className={`${MONO} break-all`}>{container.image_name}</td>
        <td className={CELL}>
          <RouteLinks
            routes={container.routes}
            target={mayHaveRoute ? `container:${container.name}` : undefined}
          />
        </td>
        <td className={CELL}>
          <div className="flex justify-end">
            <Button
              onClick={() => act.mutate(what)}
              disabled={act.isPending}
              aria-label={`${title} ${container.name}`}
            >
              {title}
            </Button>
          </div>
        </td>
      </tr>
      {(act.error !== null || container.findings.length > 0) && (
        <tr>
          <td colSpan={6} className="pb-4 pl-7">
            {act.error !== null && <Fault>{reasonOf(act.error)}</Fault>}
            <div className="grid grid-cols-1 gap-2">
              {container.findings.map((finding, at) => (
                <FindingCard key={at} finding={finding} />
              ))}
            </div>
          </td>
        </tr>
      )}
    </>
  );
}
