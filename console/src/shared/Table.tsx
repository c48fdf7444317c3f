import type { ReactNode } from 'react';

/** The looks of a table's cells. */
export const CELL = 'border-t border-rule py-1.5 pr-5 align-baseline last:pr-0';
/** The same for names, numbers and paths. */
export const MONO = `${CELL} font-mono text-[13px]`;

interface TableProps {
  /** The columns' titles; an empty one is for a column of buttons. */
  titles: readonly string[];
  /** What the table lists, where no title of a section says so. */
  label?: string;
  children: ReactNode;
}

/** A table with these titles; its rows are made of cells that look like [CELL]. It scrolls sideways where
 * it does not fit. */
export function Table({ titles, label, children }: TableProps) {
  return (
    <div
      className="mt-1.5 overflow-x-auto"
      role="group"
      aria-label={label ?? titles[0]}
      // eslint-disable-next-line jsx-a11y/no-noninteractive-tabindex -- what scrolls is reached by keyboard
      tabIndex={0}
    >
      <table className="w-full border-b border-rule text-[14px]">
        <thead>
          <tr>
            {titles.map((title, at) => (
              <th
                key={title === '' ? at : title}
                scope="col"
                className="py-1 pr-5 text-left text-[13px] font-medium whitespace-nowrap text-muted last:pr-0"
              >
                {title === '' ? <span className="sr-only">Actions</span> : title}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>{children}</tbody>
      </table>
    </div>
  );
}
