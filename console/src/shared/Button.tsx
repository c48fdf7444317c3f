import type { ComponentProps } from 'react';

interface ButtonProps extends ComponentProps<'button'> {
  /** `primary` is the one thing to do next; `quiet` has no frame, for rows and bars. */
  kind?: 'primary' | 'plain' | 'quiet';
}

const LOOKS = {
  primary: 'border-ink bg-ink text-paper hover:opacity-85',
  plain: 'border-rule bg-card text-ink hover:border-amber',
  quiet: 'border-transparent text-ink hover:border-rule hover:bg-card',
};

export function Button({ kind = 'plain', className = '', ...rest }: ButtonProps) {
  return (
    <button
      type="button"
      className={`cursor-pointer rounded-md border px-2.5 py-1 text-[14px] font-medium whitespace-nowrap disabled:cursor-default disabled:opacity-50 ${LOOKS[kind]} ${className}`}
      {...rest}
    />
  );
}

/** A button with an icon alone, which has `label` as its name and its tooltip. */
export function IconButton({ label, className = '', ...rest }: ButtonProps & { label: string }) {
  return (
    <Button
      kind="quiet"
      aria-label={label}
      title={label}
      className={`inline-flex size-7 items-center justify-center !p-0 ${className}`}
      {...rest}
    />
  );
}
