import type { HopReport } from '../api/types';
import { duration } from '../format';
import type { Mark, Size } from './geometry';
import { LARGE, NARROW, SMALL, STATES, height, inWords, layOut, width } from './geometry';

interface LaneProps {
  hops: readonly HopReport[];
}

/** A route's lane across its page: solid where it passes, broken where it fails, dotted beyond. */
export function Lane({ hops }: LaneProps) {
  return (
    <>
      <Drawing hops={hops} size={LARGE} className="lane lane-large max-w-[824px] max-md:hidden" />
      <Drawing hops={hops} size={NARROW} className="lane max-w-[348px] md:hidden" />
    </>
  );
}

/** The lane in a row: the same without words. */
export function LaneSmall({ hops }: LaneProps) {
  return (
    <svg
      className="lane lane-small block"
      width={width(SMALL)}
      height={SMALL.lower + SMALL.below}
      viewBox={`0 ${hops.some(isBeyond) ? 0 : -4.5} ${width(SMALL)} ${SMALL.lower + SMALL.below}`}
      role="img"
      aria-label={inWords(hops)}
    >
      {layOut(hops, SMALL).map((mark) => (
        <Hop key={mark.hop.hop} mark={mark} size={SMALL} />
      ))}
    </svg>
  );
}

function isBeyond({ state }: HopReport): boolean {
  return state === 'not-reached';
}

function Drawing({ hops, size, className }: LaneProps & { size: Size; className: string }) {
  return (
    <svg
      className={`w-full ${className}`}
      viewBox={`0 0 ${width(size)} ${height(hops, size)}`}
      role="img"
      aria-label={inWords(hops)}
    >
      {layOut(hops, size).map((mark) => (
        <g key={mark.hop.hop}>
          <Hop mark={mark} size={size} />
          <Caption mark={mark} size={size} />
        </g>
      ))}
    </svg>
  );
}

function Hop({ mark: { hop, x, y, way, wayState }, size: { mark } }: { mark: Mark; size: Size }) {
  return (
    <>
      <title>{hop.detail === '' ? hop.hop : `${hop.hop}: ${hop.detail}`}</title>
      {way !== undefined && <path className="way" data-state={wayState} d={way} />}
      {hop.state === 'broken' ? (
        <path
          data-state="broken"
          d={`M${x - mark} ${y - mark}l${2 * mark} ${2 * mark}m0-${2 * mark}l-${2 * mark} ${2 * mark}`}
        />
      ) : (
        <circle data-state={hop.state} cx={x} cy={y} r={mark} />
      )}
    </>
  );
}

function Caption({ mark: { hop, x, y }, size: { mark } }: { mark: Mark; size: Size }) {
  return (
    <>
      <text
        x={x}
        y={y + mark + 19}
        textAnchor="middle"
        className="fill-ink text-[13px] font-semibold"
      >
        {hop.hop}
      </text>
      <text x={x} y={y + mark + 34} textAnchor="middle" className="fill-muted text-[12px]">
        {caption(hop)}
      </text>
    </>
  );
}

function caption(hop: HopReport): string {
  if (hop.state !== 'passed') return STATES[hop.state];
  return hop.micros == null ? 'passed' : duration(hop.micros);
}
