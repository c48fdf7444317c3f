import type { ReactNode } from 'react';

/** The one thing there is to say when there are no routes to show. */
export function Notice({ title, children }: { title: string; children: ReactNode }) {
  return (
    <div className="py-10">
      <h2 className="text-xl font-semibold">{title}</h2>
      <div className="mt-1 text-muted">{children}</div>
    </div>
  );
}
