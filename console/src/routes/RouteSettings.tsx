import { useMutation } from '@tanstack/react-query';
import type { FormEvent } from 'react';
import { useId, useState } from 'react';
import { Button } from '../Button';
import { CELL, Section, Table } from '../Section';
import { Problem, editRoute, showRoute } from '../api/client';
import type { Route } from '../api/types';
import { sentence } from '../format';
import type { Setting, Value } from './settings';
import { SETTINGS, entered, nameOf, patchOf, same, shown, valueOf } from './settings';

const FIELD = 'w-full rounded-md border border-rule bg-card px-3 py-1.5 font-mono text-[14px]';

/** The settings of a route: those that are set, and a form to set another. */
export function RouteSettings({ route }: { route: Route }) {
  const [chosen, setChosen] = useState<Setting>();
  const set = SETTINGS.filter((setting) => valueOf(route, setting) !== undefined);
  return (
    <Section id="settings" title="Settings">
      {set.length === 0 ? (
        <p className="mt-2 text-muted">Every setting has its default.</p>
      ) : (
        <Table titles={['Setting', 'Value', 'Meaning', '']}>
          {set.map((setting) => (
            <tr key={nameOf(setting)} data-setting={nameOf(setting)}>
              <td className={`${CELL} font-mono text-[14px] whitespace-nowrap`}>
                {nameOf(setting)}
              </td>
              <td className={`${CELL} font-mono text-[14px] whitespace-pre-wrap break-all`}>
                {shown(valueOf(route, setting))}
              </td>
              <td className={`${CELL} text-muted`}>
                <Help text={setting.help} />
              </td>
              <td className={CELL}>
                <Button onClick={() => setChosen(setting)}>Change</Button>
              </td>
            </tr>
          ))}
        </Table>
      )}
      <label className="mt-4 flex flex-wrap items-baseline gap-3">
        <span>Change a setting</span>
        <select
          className={`${FIELD} max-w-[20rem]`}
          value={chosen === undefined ? '' : nameOf(chosen)}
          onChange={({ target }) =>
            setChosen(SETTINGS.find((setting) => nameOf(setting) === target.value))
          }
        >
          <option value="">choose one</option>
          {SETTINGS.map((setting) => (
            <option key={nameOf(setting)}>{nameOf(setting)}</option>
          ))}
        </select>
      </label>
      {chosen !== undefined && (
        <SettingForm
          key={nameOf(chosen)}
          route={route}
          setting={chosen}
          onDone={() => setChosen(undefined)}
        />
      )}
    </Section>
  );
}

/** Text in which code is between backticks. */
function Help({ text }: { text: string }) {
  return text
    .split('`')
    .map((part, index) => (index % 2 === 0 ? part : <code key={index}>{part}</code>));
}

interface SettingFormProps {
  route: Route;
  setting: Setting;
  onDone: () => void;
}

function SettingForm({ route, setting, onDone }: SettingFormProps) {
  const [before] = useState(valueOf(route, setting));
  const [text, setText] = useState(shown(before));
  const help = useId();
  const saving = useMutation({
    mutationFn: (value: Value | null) => save(route.address, setting, before, value),
    onSuccess: onDone,
  });
  const submit = (event: FormEvent) => {
    event.preventDefault();
    saving.mutate(entered(setting, text));
  };
  const field = {
    'aria-label': nameOf(setting),
    'aria-describedby': help,
    value: text,
    className: FIELD,
  };
  return (
    <form onSubmit={submit} className="mt-3 grid max-w-[44rem] gap-2" data-form={nameOf(setting)}>
      <p id={help} className="text-muted">
        <Help text={`${setting.help}. Default: ${setting.default}.`} />
        {setting.kind === 'list' && ' One entry on each line.'}
      </p>
      {setting.kind === 'switch' ? (
        <select {...field} onChange={({ target }) => setText(target.value)}>
          <option value="">default</option>
          <option value="true">on</option>
          <option value="false">off</option>
        </select>
      ) : setting.kind === 'list' ? (
        <textarea {...field} rows={3} onChange={({ target }) => setText(target.value)} />
      ) : (
        <input {...field} onChange={({ target }) => setText(target.value)} />
      )}
      {saving.error !== null && (
        <p role="alert" className="text-vermilion">
          {sentence(saving.error.message)}
        </p>
      )}
      <div className="flex gap-2">
        <Button type="submit" kind="primary" disabled={saving.isPending}>
          Save
        </Button>
        {before !== undefined && (
          <Button onClick={() => saving.mutate(null)} disabled={saving.isPending}>
            Unset
          </Button>
        )}
        <Button onClick={onDone}>Cancel</Button>
      </div>
    </form>
  );
}

/** Sets a setting, unless somebody else has changed it since it was shown. */
async function save(
  address: string,
  setting: Setting,
  before: Value | undefined,
  value: Value | null,
): Promise<Route> {
  for (;;) {
    const { route, tag } = await showRoute(address);
    const now = valueOf(route, setting);
    if (!same(now, before)) {
      const present = now === undefined ? 'unset' : shown(now);
      throw new Error(`${nameOf(setting)} was changed meanwhile: it is ${present} now`);
    }
    try {
      return await editRoute(address, patchOf(setting, value), tag);
    } catch (error) {
      // Something else has changed since it was read.
      if (!(error instanceof Problem) || error.body.status !== 412) throw error;
    }
  }
}
