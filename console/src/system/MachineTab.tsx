import { useQuery } from '@tanstack/react-query';
import { machinePlanQuery } from '../api/queries';
import type { Machine, MachineItem } from '../api/types';
import { sentence } from '../format';
import { Prose } from '../shared/Prose';
import { Button } from '../shared/Button';
import { CopyLine } from '../shared/CopyLine';
import { DifferenceLines } from '../shared/DifferenceLines';
import { Fault } from '../shared/Notice';
import { Section } from '../shared/Section';
import type { Tone } from '../shared/StateMark';
import { StateMark } from '../shared/StateMark';
import { CELL, Table } from '../shared/Table';
import { reasonOf } from '../state/useChange';

const STATES: Record<MachineItem['state'], Tone> = {
  passed: 'good',
  hint: 'uncertain',
  failed: 'bad',
};

/** Whether this machine reaches the routes, part by part, and what attaching would change. */
export function MachineTab({ machine }: { machine: Machine | undefined }) {
  const fixes = new Map(
    machine?.items.flatMap(({ fix }) => (fix == null ? [] : [[fix.command ?? fix.text, fix]])),
  );
  return (
    <div className="grid grid-cols-1 gap-7">
      <Section id="reach" title="Lookups, trust and ports">
        {machine === undefined ? (
          <p className="text-muted">Looking …</p>
        ) : (
          <Table titles={['Part', 'Subject', 'State', 'Seen']} label="Lookups, trust and ports">
            {machine.items.map((item) => (
              <tr key={`${item.part} ${item.subject}`} data-state={item.state}>
                <td className={`${CELL} text-muted`}>{item.part}</td>
                <td className={`${CELL} font-semibold`}>{item.subject}</td>
                <td className={CELL}>
                  <StateMark tone={STATES[item.state]} word={item.state} />
                </td>
                <td className={`${CELL} w-full`}>{item.summary}</td>
              </tr>
            ))}
          </Table>
        )}
        {[...fixes.values()].map((fix) => (
          <div key={fix.text} className="mt-3 text-[14px]">
            <p>
              <Prose text={sentence(fix.text)} />
            </p>
            {fix.command != null && <CopyLine text={fix.command} />}
          </div>
        ))}
      </Section>
      <Plan />
    </div>
  );
}

/** What `system attach` would change, before anybody runs it. */
function Plan() {
  const { data, error, isFetching, refetch } = useQuery(machinePlanQuery());
  return (
    <Section
      id="plan"
      title="What attaching would change"
      beside={
        <Button onClick={() => void refetch()} disabled={isFetching}>
          {isFetching ? 'Looking …' : 'Look again'}
        </Button>
      }
    >
      {error !== null && <Fault>{reasonOf(error)}</Fault>}
      {data?.steps.length === 0 && (
        <p className="mt-1 text-muted">Nothing: all of it is attached already.</p>
      )}
      {data !== undefined && data.steps.length > 0 && (
        <>
          <p className="mt-1 max-w-[80ch] text-[14px]">
            The console changes nothing of this machine: it takes root. This command shows the same
            plan and asks before it carries it out; <code className="font-mono">system detach</code>{' '}
            undoes it.
          </p>
          <CopyLine text={data.command} />
          <ul className="mt-3 grid grid-cols-1 gap-2">
            {data.steps.map(({ path, what, lines = [] }) => (
              <li
                key={path}
                className="rounded-md border border-rule bg-card px-3 py-2 text-[14px]"
              >
                <p>
                  <span className="font-mono text-[13px] font-semibold break-all">{path}</span>{' '}
                  <span className="text-muted">{what}</span>
                </p>
                <DifferenceLines lines={lines} />
              </li>
            ))}
          </ul>
        </>
      )}
      {data?.left_out?.map((what) => (
        <p key={what} className="mt-2 text-[14px] text-muted">
          Left out: {what}
        </p>
      ))}
    </Section>
  );
}
