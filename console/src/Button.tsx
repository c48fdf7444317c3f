import type { ComponentProps } from 'react';

interface ButtonProps extends ComponentProps<'button'> {
  /** `primary` is the one thing to do next. */
  kind?: 'primary' | 'plain';
}

const LOOKS = {
  primary: 'border-amber bg-amber text-white dark:text-[#171a21] hover:brightness-110',
  plain: 'border-rule bg-card text-ink hover:border-amber',
};

export function Button({ kind = 'plain', className = '', ...rest }: ButtonProps) {
  return (
    <button
      type="button"
      className={`cursor-pointer rounded-md border px-3.5 py-1.5 text-[15px] font-medium whitespace-nowrap disabled:cursor-default disabled:opacity-50 ${LOOKS[kind]} ${className}`}
      {...rest}
    />
  );
}
