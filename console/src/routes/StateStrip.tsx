import type { StateChange } from '../api/types';
import type { Span } from '../route/history';
import { FILLS, STRIP_HOURS, inWords, spans } from '../route/history';

interface StateStripProps {
  /** The changes of the route's state, oldest first; none when nothing is known. */
  changes: readonly StateChange[];
  now: number;
}

const WIDTH = 240;
/** The width of a state that was short. */
const LEAST = 2;

/** How a route has been over the last day, in a row. Broken is drawn lower than passing, so that colour is
 * not the only sign. */
export function StateStrip({ changes, now }: StateStripProps) {
  const laid = spans(changes, now);
  return (
    <svg
      className="block h-4 w-full"
      viewBox={`0 0 ${WIDTH} 16`}
      preserveAspectRatio="none"
      role="img"
      aria-label={`The last ${STRIP_HOURS} hours: ${inWords(laid)}`}
    >
      <path d={`M0 8H${WIDTH}`} stroke="var(--rule)" strokeWidth="1" />
      {laid.map((span) => (
        <rect
          key={span.from}
          x={Math.min(span.from * WIDTH, WIDTH - LEAST)}
          y={TOPS[span.state]}
          width={Math.max((span.until - span.from) * WIDTH, LEAST)}
          height="6"
          fill={FILLS[span.state]}
        />
      ))}
    </svg>
  );
}

const TOPS: Record<Span['state'], number> = { passing: 2, flapping: 5, broken: 8 };
