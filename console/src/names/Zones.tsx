import type { FormEvent } from 'react';
import { useState } from 'react';
import { editZone, removeZone } from '../api/changes';
import type { Zone } from '../api/types';
import { inOneLine, resolvesTo } from '../format';
import { Button } from '../shared/Button';
import { Choice } from '../shared/Choice';
import { Dialog } from '../shared/Dialog';
import { TextField } from '../shared/Field';
import { OtherReasons } from '../shared/OtherReasons';
import { CELL, Table } from '../shared/Table';
import { setParams } from '../state/usePlace';
import { useChange, useFormChange } from '../state/useChange';
import { ZoneForm } from './ZoneForm';

/** The zones, each to be edited and removed, and a form for another. */
export function Zones({ zones, edited }: { zones: readonly Zone[]; edited: string | undefined }) {
  const change = useChange();
  const chosen = zones.find(({ name }) => name === edited);
  return (
    <>
      <Table titles={['Zone', 'Names resolve to', 'TTL', 'Routes', 'Records', '']} label="Zones">
        {zones.map((zone) => (
          <tr key={zone.name} data-zone={zone.name}>
            <td className={CELL}>
              <span className="font-semibold">{zone.name}</span>
              {zone.advice !== undefined && zone.advice.length > 0 && (
                <p className="max-w-[60ch] text-[13px] text-muted">{inOneLine(zone.advice)}</p>
              )}
            </td>
            <td className={CELL}>{resolvesTo(zone.settings)}</td>
            <td className={CELL}>{zone.settings.ttl} s</td>
            <td className={CELL}>{zone.routes}</td>
            <td className={CELL}>{zone.records}</td>
            <td className={CELL}>
              <div className="flex justify-end gap-2">
                <Button
                  onClick={() => setParams({ zone: zone.name }, 'step')}
                  aria-label={`Edit ${zone.name}`}
                >
                  Edit
                </Button>
                <Button
                  disabled={change.isPending}
                  aria-label={`Remove ${zone.name}`}
                  onClick={() =>
                    change.mutate({
                      done: removedInWords(zone),
                      make: (key) => removeZone(zone.name, key),
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
      <div className="mt-4">
        <ZoneForm />
      </div>
      <Dialog
        title={`Zone ${chosen?.name ?? ''}`}
        about="How its names resolve. An empty field is the default."
        open={chosen !== undefined}
        onClose={() => setParams({ zone: undefined })}
      >
        {chosen !== undefined && <ZoneSettingsForm key={chosen.name} zone={chosen} />}
      </Dialog>
    </>
  );
}

function removedInWords({ name, routes }: Zone): string {
  if (routes === 0) return `Removed the zone ${name}`;
  return `Removed the zone ${name} and its ${routes === 1 ? 'route' : `${routes} routes`}`;
}

const ANSWERS = [
  ['', 'default (every name)'],
  ['every-name', 'every name'],
  ['routed-names', 'names of routes and records'],
] as const;

function ZoneSettingsForm({ zone }: { zone: Zone }) {
  const { ipv4, ipv6, ttl, answers, plain } = zone.settings;
  const [fields, setFields] = useState({
    ipv4: ipv4 ?? '',
    ipv6: ipv6 ?? '',
    ttl: ttl == null ? '' : String(ttl),
    answers: answers ?? '',
    plain: plain ?? '',
  });
  const change = useFormChange();
  const { reasons } = change;
  const set = (field: keyof typeof fields) => (value: string) =>
    setFields((before) => ({ ...before, [field]: value }));
  const submit = (event: FormEvent) => {
    event.preventDefault();
    const patch = Object.fromEntries(
      Object.entries(fields).map(([key, value]) => {
        const text = value.trim();
        if (text === '') return [key, null];
        return [key, key === 'ttl' && /^\d+$/.test(text) ? Number(text) : text];
      }),
    );
    change.mutate(
      {
        done: `Saved the zone ${zone.name}`,
        make: (key) => editZone(zone.name, patch, key),
      },
      { onSuccess: () => setParams({ zone: undefined }) },
    );
  };
  return (
    <form
      className="mt-3 grid grid-cols-1 gap-3"
      onSubmit={submit}
      noValidate
      data-form="zone-settings"
    >
      <TextField
        label="IPv4 address"
        hint="to which its names resolve; this machine by default"
        value={fields.ipv4}
        reason={reasons.ipv4}
        onText={set('ipv4')}
      />
      <TextField
        label="IPv6 address"
        hint="the same for IPv6"
        value={fields.ipv6}
        reason={reasons.ipv6}
        onText={set('ipv6')}
      />
      <TextField
        label="TTL"
        hint="seconds that others may keep an answer"
        inputMode="numeric"
        value={fields.ttl}
        reason={reasons.ttl}
        onText={set('ttl')}
      />
      <Choice
        label="Answers for"
        labelled
        value={fields.answers}
        options={ANSWERS}
        onChoose={set('answers')}
      />
      <Choice
        label="Plain HTTP"
        labelled
        value={fields.plain}
        options={[
          ['', 'default (redirect)'],
          ['redirect', 'redirect to HTTPS'],
          ['serve', 'serve'],
          ['refuse', 'refuse'],
        ]}
        onChoose={set('plain')}
      />
      <OtherReasons reasons={reasons} fields={['ipv4', 'ipv6', 'ttl']} />
      <div className="flex justify-end gap-2">
        <Button onClick={() => setParams({ zone: undefined })}>Cancel</Button>
        <Button kind="primary" type="submit" disabled={change.isPending}>
          Save
        </Button>
      </div>
    </form>
  );
}
