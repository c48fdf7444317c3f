import { useQuery } from '@tanstack/react-query';
import { undoRevision } from '../api/changes';
import { journalQuery } from '../api/queries';
import type { JournalEntry } from '../api/types';
import { Button, IconButton } from '../shared/Button';
import { DifferenceLines } from '../shared/DifferenceLines';
import { FilterField } from '../shared/Field';
import { Icon } from '../shared/Icon';
import { Moment } from '../shared/Moment';
import { Fault, Notice } from '../shared/Notice';
import { CELL, MONO, Table } from '../shared/Table';
import type { Place } from '../state/place';
import { setParams } from '../state/usePlace';
import { reasonOf, useChange } from '../state/useChange';
import { differences } from './difference';

/** Entries that are read at first, and with each step further back. */
const STEP = 100;

/** Who changed what, with the values before and after, each to be undone. */
export function JournalPage({ params }: { params: Place['params'] }) {
  const limit = Math.max(Number(params.limit) || STEP, STEP);
  const { data, error } = useQuery(journalQuery(limit));
  const text = params.text ?? '';
  const wanted = text.trim().toLowerCase();
  const shown = data?.filter((entry) =>
    `${entry.subject} ${entry.who} ${entry.action} ${entry.kind}`.toLowerCase().includes(wanted),
  );
  return (
    <div className="pt-4">
      <FilterField
        label="Show changes with this text"
        placeholder="subject, who, action …"
        className="w-72"
        value={text}
        onText={(next) => setParams({ text: next })}
      />
      {error !== null && <Fault>{reasonOf(error)}</Fault>}
      {shown?.length === 0 ? (
        <Notice title={data?.length === 0 ? 'Nothing was changed yet' : 'No change has this text'}>
          Each change of a route, zone, record or app is written down here, whoever made it.
        </Notice>
      ) : (
        <Table titles={['When', 'Change', 'Who', 'Revision', '']} label="Journal, newest first">
          {shown?.map((entry, place) => (
            <EntryRows
              key={`${entry.revision} ${entry.kind} ${entry.subject} ${place}`}
              entry={entry}
              isOpen={params.entry === idOf(entry)}
              isFirst={shown[place - 1]?.revision !== entry.revision}
            />
          ))}
        </Table>
      )}
      {data !== undefined && data.length >= limit && limit < 1000 && (
        <p className="mt-3">
          <Button onClick={() => setParams({ limit: String(limit + STEP) })}>
            Show older ones
          </Button>
        </p>
      )}
    </div>
  );
}

function idOf({ revision, subject }: JournalEntry): string {
  return `${revision} ${subject}`;
}

const ACTIONS: Record<string, string> = {
  add: 'Added',
  edit: 'Changed',
  remove: 'Removed',
  attach: 'Attached',
  detach: 'Detached',
  load: 'Loaded',
  unload: 'Unloaded',
};

interface EntryRowsProps {
  entry: JournalEntry;
  isOpen: boolean;
  /** Whether it is the first of its revision, which is undone as a whole. */
  isFirst: boolean;
}

function EntryRows({ entry, isOpen, isFirst }: EntryRowsProps) {
  const change = useChange();
  const found = differences(entry.before, entry.after);
  const ofMachine = entry.kind === 'machine';
  const lines = found.flatMap(({ key, before, after }) => [
    ...(before === undefined ? [] : [`-${key}: ${before}`]),
    ...(after === undefined ? [] : [`+${key}: ${after}`]),
  ]);
  return (
    <>
      <tr data-revision={entry.revision}>
        <td className={`${CELL} text-muted`}>
          <span className="flex items-center gap-1">
            <IconButton
              label={`${isOpen ? 'Hide' : 'Show'} the values of ${entry.subject}`}
              aria-expanded={isOpen}
              onClick={() => setParams({ entry: isOpen ? undefined : idOf(entry) })}
              className="!size-6"
            >
              <Icon name={isOpen ? 'unfolded' : 'folded'} />
            </IconButton>
            <Moment at={entry.at} />
          </span>
        </td>
        <td className={`${CELL} w-full max-w-0 min-w-52`}>
          {ACTIONS[entry.action] ?? entry.action} <span className="text-muted">{entry.kind}</span>{' '}
          <span className="font-semibold break-all">{entry.subject}</span>
          {entry.undoes != null && <span className="text-muted"> · undoes {entry.undoes}</span>}
          {!isOpen && found.length > 0 && found.length <= 2 && (
            <p className="truncate text-[13px] text-muted">
              {found
                .map(
                  ({ key, before, after }) => `${key}: ${before ?? 'unset'} → ${after ?? 'unset'}`,
                )
                .join('; ')}
            </p>
          )}
        </td>
        <td className={`${CELL} whitespace-nowrap`}>{entry.who}</td>
        <td className={MONO}>{isFirst && entry.revision}</td>
        <td className={CELL}>
          {!ofMachine && isFirst && (
            <Button
              disabled={change.isPending}
              aria-label={`Undo change ${entry.revision}`}
              onClick={() =>
                change.mutate({
                  done: `Undid change ${entry.revision}`,
                  make: (key) => undoRevision(entry.revision, key),
                })
              }
            >
              Undo
            </Button>
          )}
        </td>
      </tr>
      {isOpen && (
        <tr>
          <td colSpan={5} className="pb-3 pl-7">
            {lines.length === 0 ? (
              <p className="text-[14px] text-muted">No value is different.</p>
            ) : (
              <DifferenceLines lines={lines} />
            )}
          </td>
        </tr>
      )}
    </>
  );
}
