import * as Dialog from '@radix-ui/react-dialog';
import type { ComponentProps, FormEvent } from 'react';
import { useEffect, useId, useState } from 'react';
import { Button } from '../Button';
import { Problem, addRoute, tryRoute } from '../api/client';
import type { RouteInput } from '../api/types';
import { inOneLine } from '../format';

type Fields = { name: string; prefix: string; to: string };
type FieldName = keyof Fields;
type Reasons = Partial<Record<FieldName | 'form', string>>;

const EMPTY: Fields = { name: '', prefix: '', to: '' };
/** How long to wait after a key before the service is asked. */
const PAUSE_MS = 250;

interface AddRouteDialogProps {
  /** The zone whose name the examples use. */
  zone: string;
}

/** Adds a route. The service validates while one types, so that its rules are the only ones. */
export function AddRouteDialog({ zone }: AddRouteDialogProps) {
  const [open, setOpen] = useState(false);
  return (
    <Dialog.Root open={open} onOpenChange={setOpen}>
      <Dialog.Trigger asChild>
        <Button kind="primary">Add route</Button>
      </Dialog.Trigger>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 bg-black/40" />
        <Dialog.Content className="fixed top-[12vh] left-1/2 w-[min(32rem,calc(100vw-2rem))] -translate-x-1/2 rounded-lg border border-rule bg-paper p-6 shadow-xl">
          <Dialog.Title className="text-xl font-semibold">Add route</Dialog.Title>
          <Dialog.Description className="mt-1 text-muted">
            A name in one of your zones, and the port on which the app listens.
          </Dialog.Description>
          <RouteForm zone={zone} onDone={() => setOpen(false)} />
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}

function RouteForm({ zone, onDone }: { zone: string; onDone: () => void }) {
  const [fields, setFields] = useState(EMPTY);
  const [touched, setTouched] = useState<ReadonlySet<FieldName>>(new Set());
  const [reasons, setReasons] = useState<Reasons>({});
  const [advice, setAdvice] = useState<string>();
  const [saving, setSaving] = useState(false);

  useEffect(() => {
    if (touched.size === 0) return;
    let current = true;
    const timer = setTimeout(() => {
      tryRoute(input(fields)).then(
        (route) => {
          if (!current) return;
          setReasons({});
          setAdvice(inOneLine(route.advice ?? []));
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

  const change = (field: FieldName) => (value: string) => {
    setFields((before) => ({ ...before, [field]: value }));
    setTouched((before) => new Set(before).add(field));
  };
  const submit = async (event: FormEvent) => {
    event.preventDefault();
    setTouched(new Set(['name', 'prefix', 'to']));
    setSaving(true);
    try {
      await addRoute(input(fields));
      onDone();
    } catch (error) {
      setReasons(reasonsOf(error));
    } finally {
      setSaving(false);
    }
  };
  // A field that was not visited yet is not wrong, only empty.
  const reason = (field: FieldName) => (touched.has(field) ? reasons[field] : undefined);
  return (
    <form className="mt-5 grid gap-4" onSubmit={(event) => void submit(event)} noValidate>
      <Field
        label="Name"
        hint="*. in front means every name below"
        placeholder={`booking.${zone}`}
        value={fields.name}
        reason={reason('name')}
        onText={change('name')}
      />
      <Field
        label="Path prefix"
        hint="optional: leave it out for every path"
        placeholder="/api"
        value={fields.prefix}
        reason={reason('prefix')}
        onText={change('prefix')}
      />
      <Field
        label="Leads to"
        hint="a port, https://HOST:PORT, folder:PATH or redirect:URL"
        placeholder="4310"
        value={fields.to}
        reason={reason('to')}
        onText={change('to')}
      />
      {advice !== undefined && <p className="text-[14px]">{advice}</p>}
      {reasons.form !== undefined && (
        <p role="alert" className="text-vermilion">
          {reasons.form}
        </p>
      )}
      <div className="mt-1 flex justify-end gap-2">
        <Dialog.Close asChild>
          <Button>Cancel</Button>
        </Dialog.Close>
        <Button kind="primary" type="submit" disabled={saving}>
          Add route
        </Button>
      </div>
    </form>
  );
}

interface FieldProps extends ComponentProps<'input'> {
  label: string;
  hint: string;
  reason: string | undefined;
  onText: (value: string) => void;
}

function Field({ label, hint, reason, onText, ...rest }: FieldProps) {
  const id = useId();
  return (
    <div>
      <label htmlFor={id} className="font-medium">
        {label}
      </label>
      <input
        id={id}
        className="mt-1 w-full rounded-md border border-muted bg-card px-3 py-1.5 font-mono text-[15px] aria-invalid:border-vermilion"
        autoComplete="off"
        autoCapitalize="none"
        spellCheck={false}
        aria-invalid={reason !== undefined}
        aria-describedby={`${id}-note`}
        onChange={(event) => onText(event.target.value)}
        {...rest}
      />
      <p
        id={`${id}-note`}
        className={`mt-1 text-[14px] ${reason === undefined ? 'text-muted' : 'text-vermilion'}`}
      >
        {reason ?? hint}
      </p>
    </div>
  );
}

function input({ name, prefix, to }: Fields): RouteInput {
  return prefix === '' ? { name, to } : { name, prefix, to };
}

function reasonsOf(error: unknown): Reasons {
  if (!(error instanceof Problem)) return { form: String(error) };
  const errors = error.body.errors ?? [];
  if (errors.length === 0) return { form: error.body.detail };
  return Object.fromEntries(errors.map(({ field, reason }) => [field, reason]));
}
