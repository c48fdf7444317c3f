import type { FormEvent } from 'react';
import { useState } from 'react';
import type { Route } from '../api/types';
import { patchRoute } from '../routes/useRouteActions';
import { Button } from '../shared/Button';
import { FilterField, TextField } from '../shared/Field';
import { Fault } from '../shared/Notice';
import { reasonOf, useFormChange } from '../state/useChange';
import { SettingField } from './SettingField';
import type { Setting } from './settings';
import {
  entered,
  mergePatches,
  nameOf,
  patchOf,
  same,
  settingsByTopic,
  shown,
  titleOf,
  valueOf,
} from './settings';

/** Where a route leads and all its settings, in one form; what was changed is saved together. */
export function RouteSettings({ route }: { route: Route }) {
  // What was entered, by the name of the setting; `to` is the target.
  const [texts, setTexts] = useState<Readonly<Record<string, string>>>({});
  // The route as it was when the first field was edited.
  const [before, setBefore] = useState(route);
  const [filter, setFilter] = useState('');
  const change = useFormChange();
  const { reasons } = change;
  const edited = Object.keys(texts).sort();
  const isWanted = (setting: Setting) =>
    `${nameOf(setting)} ${titleOf(setting)} ${setting.help}`
      .toLowerCase()
      .includes(filter.trim().toLowerCase());
  const edit = (name: string, text: string, present: string) => {
    if (edited.length === 0) setBefore(route);
    setTexts((texts) => {
      const others = Object.entries(texts).filter(([other]) => other !== name);
      return Object.fromEntries(text === present ? others : [...others, [name, text]]);
    });
  };
  const submit = (event: FormEvent) => {
    event.preventDefault();
    const settings = settingsByTopic()
      .flatMap((group) => group.settings)
      .filter((setting) => texts[nameOf(setting)] !== undefined);
    const patches = settings.map((setting) =>
      patchOf(setting, entered(setting, texts[nameOf(setting)] ?? '')),
    );
    if (texts.to !== undefined) patches.push({ to: texts.to.trim() });
    const stillHolds = (now: Route) => {
      if (texts.to !== undefined && now.to !== before.to) {
        throw new Error(`the target was changed meanwhile: it is ${now.to} now`);
      }
      for (const setting of settings) {
        const value = valueOf(now, setting);
        if (same(value, valueOf(before, setting))) continue;
        const present = value === undefined ? 'unset' : shown(value);
        throw new Error(`${nameOf(setting)} was changed meanwhile: it is ${present} now`);
      }
    };
    change.mutate(
      {
        done: `Saved ${edited.join(', ')} of ${route.address}`,
        make: (key) => patchRoute(route.address, mergePatches(patches), key, stillHolds),
      },
      { onSuccess: () => setTexts({}) },
    );
  };
  if (route.of_container != null) {
    return (
      <p className="max-w-[70ch]">
        This route comes from a label of the container {route.of_container}: change the label, and
        make the container anew. A route that you add yourself with the same address takes its
        place.
      </p>
    );
  }
  return (
    <form onSubmit={submit} className="max-w-[76rem]" noValidate data-form="settings">
      {route.project != null && (
        <p className="mb-3 max-w-[80ch] text-[14px] text-muted">
          It comes from <code className="font-mono text-[13px]">{route.project}</code>. What is
          changed here lasts until that file is loaded again;{' '}
          <code className="font-mono text-[13px]">bentlane project export</code> writes it into the
          file.
        </p>
      )}
      <div className="max-w-[44rem]">
        <TextField
          label="Target"
          hint="A port, https://HOST:PORT, app:NAME, container:NAME:PORT, folder:PATH or redirect:URL"
          name="to"
          value={texts.to ?? route.to}
          reason={reasons.to}
          onText={(text) => edit('to', text, route.to)}
        />
      </div>
      <FilterField
        label="Show settings with this text"
        placeholder="part of a setting"
        className="mt-3 w-72"
        value={filter}
        onText={setFilter}
      />
      {settingsByTopic().map(({ topic, settings }) => {
        const wanted = settings.filter(isWanted);
        if (wanted.length === 0) return null;
        return (
          <fieldset key={topic} className="mt-4 border-t border-rule pt-2">
            <legend className="pr-3 font-semibold">{topic}</legend>
            <div className="grid gap-x-8 gap-y-3 sm:grid-cols-2 xl:grid-cols-3">
              {wanted.map((setting) => {
                const name = nameOf(setting);
                const present = shown(valueOf(route, setting));
                return (
                  <SettingField
                    key={name}
                    setting={setting}
                    text={texts[name] ?? present}
                    reason={reasons[name]}
                    onText={(text) => edit(name, text, present)}
                  />
                );
              })}
            </div>
          </fieldset>
        );
      })}
      <div className="sticky bottom-0 mt-4 flex flex-wrap items-center gap-3 border-t border-rule bg-paper py-3">
        <Button kind="primary" type="submit" disabled={edited.length === 0 || change.isPending}>
          Save
        </Button>
        <Button disabled={edited.length === 0} onClick={() => setTexts({})}>
          Discard
        </Button>
        <p role="status" className="text-[14px] text-muted">
          {edited.length === 0 ? 'Nothing was changed.' : `Changed: ${edited.join(', ')}`}
        </p>
        {change.error !== null && <Fault>{reasons.form ?? reasonOf(change.error)}</Fault>}
      </div>
    </form>
  );
}
