import type { HopReport } from '../api/types';
import { duration } from '../format';
import type { Mark } from './geometry';
import { STATES, WIDTH, height, inWords, layOut } from './geometry';

interface LaneProps {
  hops: readonly HopReport[];
}

/** A route's lane: solid where it passes, broken where it fails, dotted beyond. */
export function Lane({ hops }: LaneProps) {
  return (
    <svg
      className="lane w-full max-w-[456px]"
      height={height(hops)}
      viewBox={`0 0 ${WIDTH} ${height(hops)}`}
      role="img"
      aria-label={inWords(hops)}
    >
      {layOut(hops).map((mark) => (
        <HopMark key={mark.hop.hop} mark={mark} />
      ))}
    </svg>
  );
}

function HopMark({ mark: { hop, x, y, way, wayState } }: { mark: Mark }) {
  return (
    <g>
      <title>{hop.detail === '' ? hop.hop : `${hop.hop}: ${hop.detail}`}</title>
      {way !== undefined && <path className="way" data-state={wayState} d={way} />}
      {hop.state === 'broken' ? (
        <path data-state="broken" d={`M${x - 6} ${y - 6}l12 12m0-12l-12 12`} />
      ) : (
        <circle data-state={hop.state} cx={x} cy={y} r="6" />
      )}
      <text x={x} y={y + 23} textAnchor="middle" className="fill-ink text-[13px] font-semibold">
        {hop.hop}
      </text>
      <text x={x} y={y + 38} textAnchor="middle" className="fill-muted text-[12px]">
        {caption(hop)}
      </text>
    </g>
  );
}

function caption(hop: HopReport): string {
  if (hop.state !== 'passed') return STATES[hop.state];
  return hop.micros == null ? 'passed' : duration(hop.micros);
}
