import type { ComponentProps, ReactNode } from 'react';
import { useId } from 'react';

/** What every field of a form has. */
interface FieldParts {
  label: string;
  /** What to enter, while nothing is wrong with it. */
  hint?: ReactNode;
  /** What is wrong with what was entered. */
  reason?: string;
}

interface TextFieldProps extends FieldParts, Omit<ComponentProps<'input'>, 'onChange'> {
  onText: (value: string) => void;
}

/** A line of text with its label, and under it a hint or what is wrong. */
export function TextField({ label, hint, reason, onText, ...rest }: TextFieldProps) {
  const id = useId();
  return (
    <Labelled id={id} label={label} hint={hint} reason={reason}>
      <input {...boxOf(id, reason)} onChange={(event) => onText(event.target.value)} {...rest} />
    </Labelled>
  );
}

interface TextAreaProps extends FieldParts, Omit<ComponentProps<'textarea'>, 'onChange'> {
  onText: (value: string) => void;
}

/** The same for several lines. */
export function TextArea({ label, hint, reason, onText, ...rest }: TextAreaProps) {
  const id = useId();
  return (
    <Labelled id={id} label={label} hint={hint} reason={reason}>
      <textarea {...boxOf(id, reason)} onChange={(event) => onText(event.target.value)} {...rest} />
    </Labelled>
  );
}

/** What every box has that takes a text of the service's, which no browser is to correct. */
function boxOf(id: string, reason: string | undefined) {
  return {
    id,
    className:
      'w-full rounded-md border border-muted bg-card px-2.5 py-1 font-mono text-[14px] aria-invalid:border-vermilion',
    autoComplete: 'off',
    autoCapitalize: 'none',
    spellCheck: false,
    'aria-invalid': reason !== undefined,
    'aria-describedby': `${id}-note`,
  };
}

function Labelled({
  id,
  label,
  hint,
  reason,
  children,
}: FieldParts & { id: string; children: ReactNode }) {
  return (
    <div>
      <label htmlFor={id} className="block text-[14px] font-medium">
        {label}
      </label>
      <div className="mt-0.5">{children}</div>
      <p
        id={`${id}-note`}
        role={reason === undefined ? undefined : 'alert'}
        className={`mt-0.5 text-[13px] ${reason === undefined ? 'text-muted' : 'text-vermilion'}`}
      >
        {reason ?? hint}
      </p>
    </div>
  );
}

interface FilterFieldProps extends Omit<ComponentProps<'input'>, 'onChange'> {
  label: string;
  onText: (value: string) => void;
}

/** Narrows a list while one types. `/` puts the cursor into the page's one. */
export function FilterField({ label, onText, className = '', ...rest }: FilterFieldProps) {
  return (
    <input
      type="search"
      data-filter
      className={`rounded-md border border-muted bg-card px-2.5 py-1 font-mono text-[14px] ${className}`}
      aria-label={label}
      autoComplete="off"
      autoCapitalize="none"
      spellCheck={false}
      onChange={(event) => onText(event.target.value)}
      {...rest}
    />
  );
}
