import type { ReactNode } from 'react';

/** A part of a page under its own title. */
export function Section({
  id,
  title,
  beside,
  children,
}: {
  id: string;
  title: string;
  /** What stands beside the title. */
  beside?: ReactNode;
  children: ReactNode;
}) {
  return (
    <section aria-labelledby={id}>
      <div className="flex flex-wrap items-center gap-x-4 gap-y-2">
        <h2 id={id} className="text-[17px] font-semibold">
          {title}
        </h2>
        {beside}
      </div>
      {children}
    </section>
  );
}
