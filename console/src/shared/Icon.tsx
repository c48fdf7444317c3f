/** The icons, each drawn on 16 by 16 with the lane's own round ends. */
const PATHS = {
  open: 'M9 3h4v4M13 3 7.5 8.5M11 9.5V13H3V5h3.5',
  more: 'M3.5 8h.01M8 8h.01M12.5 8h.01',
  folded: 'M6 3.5 10.5 8 6 12.5',
  unfolded: 'M3.5 6 8 10.5 12.5 6',
  copy: 'M6 6h7v7H6zM10 6V3H3v7h3',
  search: 'M7 3a4 4 0 1 0 0 8 4 4 0 0 0 0-8M10 10l3.5 3.5',
  close: 'M4 4l8 8M12 4l-8 8',
  check: 'M3 8.5 6.5 12 13 4.5',
  theme: 'M8 2.5v11M8 2.5a5.5 5.5 0 0 0 0 11M8 2.5a5.5 5.5 0 0 1 0 11M10 4v8M12 6v4',
} as const;

export type IconName = keyof typeof PATHS;

/** A drawing for those who see it; the element around it has the name. */
export function Icon({ name }: { name: IconName }) {
  return (
    <svg
      viewBox="0 0 16 16"
      className="size-4 shrink-0"
      fill="none"
      stroke="currentColor"
      strokeWidth={name === 'more' ? 2.4 : 1.5}
      strokeLinecap="round"
      strokeLinejoin="round"
      aria-hidden="true"
    >
      <path d={PATHS[name]} />
    </svg>
  );
}
