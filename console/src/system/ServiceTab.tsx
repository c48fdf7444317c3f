import { useQuery } from '@tanstack/react-query';
import { queriesQuery, statusQuery, summaryQuery } from '../api/queries';
import type { Status } from '../api/types';
import { list, sentence } from '../format';
import { Prose } from '../shared/Prose';
import { CopyLine } from '../shared/CopyLine';
import { Moment } from '../shared/Moment';
import { Section } from '../shared/Section';
import { StateMark } from '../shared/StateMark';
import { CELL, Table } from '../shared/Table';

/** What the service is, where it listens, what it works with, and what it had to leave out. */
export function ServiceTab() {
  const { data: status } = useQuery(statusQuery());
  const { data: queries } = useQuery(queriesQuery());
  const { data: traffic } = useQuery(summaryQuery());
  if (status === undefined) return <p className="text-muted">Reading …</p>;
  return (
    <div className="grid grid-cols-1 gap-7">
      {status.attention?.map(({ text, command }) => (
        <div
          key={text}
          className="rounded-md border border-l-4 border-rule border-l-amber bg-card px-3 py-2"
        >
          <p>
            <Prose text={sentence(text)} />
          </p>
          {command != null && <CopyLine text={command} />}
        </div>
      ))}
      <div className="grid grid-cols-1 gap-7 lg:grid-cols-2">
        <Section id="service" title="Service">
          <Facts
            facts={[
              ['Version', status.version],
              ['Process', `${status.pid}, as ${status.runs_as.user ?? status.runs_as.uid}`],
              ['Since', <Moment key="since" at={status.started_at} />],
              ['Data folder', status.data_dir],
              ['Revision', status.revision],
              [
                'Routes',
                `${status.routes} in ${status.zones === 1 ? 'one zone' : `${status.zones} zones`}`,
              ],
              [
                'Connections',
                `${status.capacity.connections} at most, from ${status.capacity.descriptors} descriptors`,
              ],
            ]}
          />
        </Section>
        <Section id="listeners" title="Listeners">
          <Facts
            facts={[
              ['DNS', addresses(status.listeners.dns)],
              ['HTTP', addresses(status.listeners.http)],
              ['HTTPS', addresses(status.listeners.https)],
              ['Console', addresses(status.listeners.console)],
              ['API', status.listeners.socket],
            ]}
          />
        </Section>
        <Section id="database" title="Database and engines">
          <Facts
            facts={[
              [
                'Database',
                status.database.reachable ? (
                  <StateMark key="db" tone="good" word="answers" />
                ) : (
                  <StateMark key="db" tone="bad" word={status.database.error ?? 'away'} />
                ),
              ],
              ['Place', status.database.place],
              ...(status.engines ?? []).map(
                (engine) =>
                  [
                    'Engine',
                    <span key={engine.socket}>
                      {engine.fault == null ? (
                        <StateMark tone="good" word={engine.socket} />
                      ) : (
                        <StateMark tone="bad" word={`${engine.socket}: ${engine.fault}`} />
                      )}
                    </span>,
                  ] as const,
              ),
            ]}
          />
        </Section>
        <Section id="dropped" title="Dropped since the start">
          <Facts
            facts={[
              ['Requests not recorded', traffic?.left_out],
              ['Requests not stored', traffic?.not_kept],
              ['Queries not recorded', queries?.left_out],
            ]}
          />
          <p className="mt-1 text-[13px] text-muted">
            They were served all the same; only the record of them is missing.
          </p>
        </Section>
      </div>
      <Section id="tasks" title="Tasks">
        <Table titles={['Task', 'State', 'Restarts', 'Last error']} label="Tasks">
          {status.tasks.map((task) => (
            <tr key={task.name}>
              <td className={`${CELL} whitespace-nowrap`}>{task.name}</td>
              <td className={CELL}>
                <StateMark tone={TASKS[task.state]} word={task.state} />
              </td>
              <td className={CELL}>{task.restarts}</td>
              <td className={`${CELL} w-full`}>{task.error}</td>
            </tr>
          ))}
        </Table>
      </Section>
    </div>
  );
}

const TASKS: Record<Status['tasks'][number]['state'], 'good' | 'waiting' | 'bad'> = {
  running: 'good',
  restarting: 'waiting',
  failed: 'bad',
};

function addresses(all: readonly string[]): string {
  return all.length === 0 ? 'none' : list(all);
}

function Facts({ facts }: { facts: readonly (readonly [string, React.ReactNode])[] }) {
  return (
    <dl className="mt-1.5 grid grid-cols-[max-content_minmax(0,1fr)] gap-x-6 gap-y-1 text-[14px]">
      {facts.map(
        ([title, value], at) =>
          value != null && (
            <div key={`${title} ${at}`} className="contents">
              <dt className="text-muted">{title}</dt>
              <dd className="break-all">{value}</dd>
            </div>
          ),
      )}
    </dl>
  );
}
