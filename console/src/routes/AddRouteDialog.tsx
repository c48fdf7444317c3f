import { useQuery } from '@tanstack/react-query';
import type { FormEvent } from 'react';
import { useEffect, useState } from 'react';
import { addRoute, tryRoute } from '../api/changes';
import { appsQuery, containersQuery, portsQuery } from '../api/queries';
import type { RouteInput } from '../api/types';
import { inOneLine } from '../format';
import { SettingField } from '../route/SettingField';
import { entered, mergePatches, nameOf, patchOf, settingsByTopic } from '../route/settings';
import { Button } from '../shared/Button';
import { Dialog } from '../shared/Dialog';
import { TextField } from '../shared/Field';
import { OtherReasons } from '../shared/OtherReasons';
import { routePath } from '../state/place';
import type { Reasons } from '../state/reasons';
import { reasonsOf } from '../state/reasons';
import { goTo, setParams } from '../state/usePlace';
import { useFormChange } from '../state/useChange';
import { suggestedTargets } from './suggestions';

/** How long to wait after a key before the service is asked. */
const PAUSE_MS = 250;

interface AddRouteDialogProps {
  /** What the page's address has: a target to begin with, `route` for none; undefined when it is closed. */
  wanted: string | undefined;
  /** A name to begin with. */
  name: string | undefined;
  /** The zone whose name the examples use. */
  zone: string;
}

/** Adds a route. The service validates while one types, so that its rules are the only ones. */
export function AddRouteDialog({ wanted, name, zone }: AddRouteDialogProps) {
  const close = () => setParams({ add: undefined, name: undefined });
  return (
    <Dialog
      title="Add route"
      about="A name in one of your zones, and what it leads to."
      open={wanted !== undefined}
      onClose={close}
      wide
    >
      <RouteForm
        zone={zone}
        to={wanted === 'route' ? '' : (wanted ?? '')}
        name={name ?? ''}
        onClose={close}
      />
    </Dialog>
  );
}

function RouteForm({
  zone,
  to,
  name,
  onClose,
}: {
  zone: string;
  to: string;
  name: string;
  onClose: () => void;
}) {
  const [fields, setFields] = useState<Readonly<Record<string, string>>>({ name, prefix: '', to });
  const [touched, setTouched] = useState<ReadonlySet<string>>(new Set());
  const [reasons, setReasons] = useState<Reasons>({});
  const [advice, setAdvice] = useState<string>();
  const change = useFormChange();

  useEffect(() => {
    if (touched.size === 0) return;
    let current = true;
    const timer = setTimeout(() => {
      tryRoute(inputOf(fields)).then(
        (route) => {
          if (!current) return;
          setReasons({});
          const lines = [inOneLine(route.advice ?? []), ...(route.port_notes ?? [])];
          setAdvice(lines.filter((line) => line !== undefined && line !== '').join(' '));
        },
        (error: unknown) => {
          if (!current) return;
          setReasons(reasonsOf(error));
          setAdvice(undefined);
        },
      );
    }, PAUSE_MS);
    return () => {
      current = false;
      clearTimeout(timer);
    };
  }, [fields, touched]);

  const set = (field: string) => (value: string) => {
    setFields((before) => ({ ...before, [field]: value }));
    setTouched((before) => new Set(before).add(field));
  };
  const submit = (event: FormEvent) => {
    event.preventDefault();
    setTouched((before) => new Set([...before, 'name', 'prefix', 'to']));
    const input = inputOf(fields);
    const address = `${input.name}${input.prefix ?? ''}`;
    change.mutate(
      { done: `Added ${address}`, make: (key) => addRoute(input, key) },
      {
        onSuccess: () => {
          onClose();
          goTo(routePath(address));
        },
        onError: (error) => setReasons(reasonsOf(error)),
      },
    );
  };
  // A field that was not visited yet is not wrong, only empty.
  const reason = (field: string) => (touched.has(field) ? reasons[field] : undefined);
  return (
    <form className="mt-4 grid grid-cols-1 gap-3" onSubmit={submit} noValidate>
      <div className="grid grid-cols-1 gap-3 sm:grid-cols-[2fr_1fr]">
        <TextField
          label="Name"
          hint="*. in front means every name below"
          placeholder={`booking.${zone}`}
          value={fields.name}
          reason={reason('name')}
          onText={set('name')}
        />
        <TextField
          label="Path prefix"
          hint="optional: leave it out for every path"
          placeholder="/api"
          value={fields.prefix}
          reason={reason('prefix')}
          onText={set('prefix')}
        />
      </div>
      <TextField
        label="Target"
        hint="a port, https://HOST:PORT, app:NAME, container:NAME:PORT, folder:PATH or redirect:URL"
        placeholder="4310"
        value={fields.to}
        reason={reason('to')}
        onText={set('to')}
      />
      <Suggestions onChoose={set('to')} />
      {advice !== undefined && advice !== '' && <p className="text-[14px]">{advice}</p>}
      <details className="rounded-md border border-rule px-3 py-1.5">
        <summary className="cursor-pointer font-medium">Settings</summary>
        {settingsByTopic().map(({ topic, settings }) => (
          <fieldset key={topic} className="mt-3 border-t border-rule pt-1">
            <legend className="pr-3 font-semibold">{topic}</legend>
            <div className="grid gap-x-6 gap-y-2 sm:grid-cols-2">
              {settings.map((setting) => (
                <SettingField
                  key={nameOf(setting)}
                  setting={setting}
                  text={fields[nameOf(setting)] ?? ''}
                  reason={reason(nameOf(setting))}
                  onText={set(nameOf(setting))}
                />
              ))}
            </div>
          </fieldset>
        ))}
      </details>
      <OtherReasons reasons={reasons} fields={Object.keys(fields)} />
      <div className="mt-1 flex justify-end gap-2">
        <Button onClick={onClose}>Cancel</Button>
        <Button kind="primary" type="submit" disabled={change.isPending}>
          Add route
        </Button>
      </div>
    </form>
  );
}

/** What a route could lead to: the apps, and what else answers HTTP here. */
function Suggestions({ onChoose }: { onChoose: (to: string) => void }) {
  const { data: apps = [] } = useQuery(appsQuery());
  const { data: ports = [] } = useQuery(portsQuery());
  const { data: containers = [] } = useQuery(containersQuery());
  const targets = suggestedTargets(apps, ports, containers);
  if (targets.length === 0) return null;
  return (
    <ul aria-label="What runs here" className="-mt-1 flex flex-wrap gap-1.5">
      {targets.map(({ to, about }) => (
        <li key={to} className="max-w-full">
          <Button onClick={() => onChoose(to)} title={about} className="max-w-full truncate">
            <span className="font-mono text-[13px]">{to}</span>{' '}
            <span className="text-muted">{about}</span>
          </Button>
        </li>
      ))}
    </ul>
  );
}

/** The route that the fields describe. */
function inputOf(fields: Readonly<Record<string, string>>): RouteInput {
  const { name = '', prefix = '', to = '', ...rest } = fields;
  const settings = settingsByTopic()
    .flatMap((group) => group.settings)
    .filter((setting) => (rest[nameOf(setting)] ?? '').trim() !== '')
    .map((setting) => patchOf(setting, entered(setting, rest[nameOf(setting)] ?? '')));
  const given = { name: name.trim(), to: to.trim(), ...mergePatches(settings) };
  return (prefix.trim() === '' ? given : { ...given, prefix: prefix.trim() }) as RouteInput;
}
