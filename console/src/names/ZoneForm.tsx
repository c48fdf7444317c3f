import type { FormEvent } from 'react';
import { useEffect, useState } from 'react';
import { addZone, tryZone } from '../api/changes';
import { inOneLine } from '../format';
import { Button } from '../shared/Button';
import { TextField } from '../shared/Field';
import { useFormChange } from '../state/useChange';

/** How long to wait after a key before the service is asked. */
const PAUSE_MS = 250;

/** Adds a zone; the service says while one types what is wrong or questionable about its name. */
export function ZoneForm() {
  const [name, setName] = useState('');
  const [reason, setReason] = useState<string>();
  const [advice, setAdvice] = useState<string>();
  const change = useFormChange();

  useEffect(() => {
    if (name === '') return;
    let current = true;
    const timer = setTimeout(() => {
      tryZone(name).then(
        (zone) => {
          if (!current) return;
          setReason(undefined);
          setAdvice(inOneLine(zone.advice ?? []));
        },
        (error: unknown) => {
          if (!current) return;
          setReason(error instanceof Error ? error.message : String(error));
          setAdvice(undefined);
        },
      );
    }, PAUSE_MS);
    return () => {
      current = false;
      clearTimeout(timer);
    };
  }, [name]);

  const submit = (event: FormEvent) => {
    event.preventDefault();
    change.mutate(
      {
        done: `Added the zone ${name.trim()}`,
        make: (key) => addZone(name.trim(), false, key),
      },
      {
        onSuccess: () => {
          setName('');
          setReason(undefined);
          setAdvice(undefined);
        },
        onError: (error) => setReason(error.message),
      },
    );
  };
  return (
    <form className="flex max-w-xl items-start gap-2" onSubmit={submit} noValidate data-form="zone">
      <div className="grow">
        <TextField
          label="New zone"
          placeholder="moor.test"
          value={name}
          reason={reason}
          hint={advice}
          onText={setName}
        />
      </div>
      <Button kind="primary" type="submit" className="mt-[23px]" disabled={change.isPending}>
        Add zone
      </Button>
    </form>
  );
}

/** What a new user sees: one field, and then there are names. */
export function FirstZone() {
  return (
    <section className="py-8">
      <h2 className="text-xl font-semibold">Start with a zone</h2>
      <p className="mt-1 mb-4 text-muted">
        Every name at and below it will lead to this machine. The suffix .test is reserved for this.
      </p>
      <ZoneForm />
    </section>
  );
}
