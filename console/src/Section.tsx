import type { ReactNode } from 'react';

/** The looks of a table's cells. */
export const CELL = 'border-t border-rule py-2 pr-6 align-top';

/** A table with these titles; its rows are made of cells that look like [CELL]. */
export function Table({ titles, children }: { titles: readonly string[]; children: ReactNode }) {
  return (
    <table className="mt-2 w-full border-b border-rule">
      <thead>
        <tr>
          {titles.map((title) => (
            <th key={title} className="py-1.5 pr-6 text-left text-[14px] font-medium text-muted">
              {title}
            </th>
          ))}
        </tr>
      </thead>
      <tbody>{children}</tbody>
    </table>
  );
}

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
      <div className="flex flex-wrap items-baseline gap-4">
        <h2 id={id} className="text-[19px] font-semibold">
          {title}
        </h2>
        {beside}
      </div>
      {children}
    </section>
  );
}
