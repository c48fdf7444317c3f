import type { FormEvent } from 'react';
import { useState } from 'react';
import { addRecord, removeRecords } from '../api/changes';
import type { DnsRecord } from '../api/types';
import { Button } from '../shared/Button';
import { Choice } from '../shared/Choice';
import { TextField } from '../shared/Field';
import { Notice } from '../shared/Notice';
import { OtherReasons } from '../shared/OtherReasons';
import { CELL, MONO, Table } from '../shared/Table';
import { useChange, useFormChange } from '../state/useChange';

const TYPES = ['A', 'AAAA', 'CNAME', 'MX', 'TXT', 'SRV', 'CAA', 'HTTPS', 'NS', 'PTR'].map(
  (type) => [type, type] as const,
);

/** The user's own records, and a form for another. */
export function Records({ records, zone }: { records: readonly DnsRecord[]; zone: string }) {
  const change = useChange();
  return (
    <>
      {records.length === 0 ? (
        <Notice title="No record of your own">
          Names resolve without any. Add one where a program looks for mail servers, aliases or
          texts.
        </Notice>
      ) : (
        <Table titles={['Owner', 'Type', 'Data', 'TTL', '']} label="Records">
          {records.map((record) => (
            <tr key={`${record.owner} ${record.type} ${record.data}`}>
              <td className={CELL}>{record.owner}</td>
              <td className={CELL}>{record.type}</td>
              <td className={`${MONO} break-all`}>{record.data}</td>
              <td className={CELL}>{record.ttl} s</td>
              <td className={CELL}>
                <div className="flex justify-end">
                  <Button
                    disabled={change.isPending}
                    aria-label={`Remove the ${record.type} records of ${record.owner}`}
                    onClick={() =>
                      change.mutate({
                        done: `Removed the ${record.type} records of ${record.owner}`,
                        make: (key) => removeRecords(record.owner, record.type, key),
                      })
                    }
                  >
                    Remove
                  </Button>
                </div>
              </td>
            </tr>
          ))}
        </Table>
      )}
      <RecordForm zone={zone} />
    </>
  );
}

function RecordForm({ zone }: { zone: string }) {
  const [fields, setFields] = useState({ owner: '', type: 'A', data: '' });
  const change = useFormChange();
  const { reasons } = change;
  const set = (field: keyof typeof fields) => (value: string) =>
    setFields((before) => ({ ...before, [field]: value }));
  const submit = (event: FormEvent) => {
    event.preventDefault();
    const owner = fields.owner.trim();
    change.mutate(
      {
        done: `Added ${fields.type} of ${owner}`,
        make: (key) => addRecord({ ...fields, owner, data: fields.data.trim() }, key),
      },
      { onSuccess: () => setFields((before) => ({ ...before, owner: '', data: '' })) },
    );
  };
  return (
    <form onSubmit={submit} className="mt-4 max-w-3xl" noValidate data-form="record">
      <div className="grid items-start gap-2 sm:grid-cols-[1fr_auto_1.4fr_auto]">
        <TextField
          label="Owner"
          hint="a name in a zone"
          placeholder={`mail.${zone}`}
          value={fields.owner}
          reason={reasons.owner}
          onText={set('owner')}
        />
        <div className="sm:mt-[23px]">
          <Choice label="Type" value={fields.type} options={TYPES} onChoose={set('type')} />
        </div>
        <TextField
          label="Data"
          hint="as in a zone file, such as 10 mail.moor.test."
          placeholder="192.0.2.7"
          value={fields.data}
          reason={reasons.data}
          onText={set('data')}
        />
        <Button kind="primary" type="submit" className="sm:mt-[23px]" disabled={change.isPending}>
          Add record
        </Button>
      </div>
      <OtherReasons reasons={reasons} fields={['owner', 'data']} />
    </form>
  );
}
