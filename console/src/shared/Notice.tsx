import type { ReactNode } from 'react';

/** The one thing there is to say when a page has nothing to show, and the next step. */
export function Notice({ title, children }: { title: string; children: ReactNode }) {
  return (
    <div className="py-8">
      <h2 className="text-[17px] font-semibold">{title}</h2>
      <div className="mt-1 max-w-[70ch] text-muted">{children}</div>
    </div>
  );
}

/** Why something failed. */
export function Fault({ children }: { children: ReactNode }) {
  return (
    <p role="alert" className="mt-2 text-vermilion">
      {children}
    </p>
  );
}
