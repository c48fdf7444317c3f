import type { FormEvent } from 'react';
import { useEffect, useId, useState } from 'react';
import { Button } from '../Button';
import { addZone, tryZone } from '../api/client';
import { inOneLine } from '../format';

/** How long to wait after a key before the service is asked. */
const PAUSE_MS = 250;

/** Adds a zone; the service says while one types what is wrong or questionable about its name. */
export function ZoneForm() {
  const id = useId();
  const [name, setName] = useState('');
  const [reason, setReason] = useState<string>();
  const [advice, setAdvice] = useState<string>();

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

  const submit = async (event: FormEvent) => {
    event.preventDefault();
    try {
      await addZone(name);
      setName('');
      setReason(undefined);
      setAdvice(undefined);
    } catch (error) {
      setReason(error instanceof Error ? error.message : String(error));
    }
  };
  return (
    <form className="max-w-md" onSubmit={(event) => void submit(event)} noValidate>
      <label htmlFor={id} className="block font-medium">
        Zone
      </label>
      <div className="mt-1 flex gap-2">
        <input
          id={id}
          className="w-full rounded-md border border-muted bg-card px-3 py-1.5 font-mono text-[15px]"
          placeholder="moor.test"
          autoComplete="off"
          spellCheck={false}
          aria-invalid={reason !== undefined}
          aria-describedby={`${id}-note`}
          value={name}
          onChange={(event) => setName(event.target.value)}
        />
        <Button kind="primary" type="submit">
          Add zone
        </Button>
      </div>
      <p
        id={`${id}-note`}
        role={reason === undefined ? undefined : 'alert'}
        className={`mt-1 text-[14px] ${reason === undefined ? '' : 'text-vermilion'}`}
      >
        {reason ?? advice}
      </p>
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
