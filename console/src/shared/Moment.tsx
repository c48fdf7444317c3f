import { clock, dayAndClock, exactly, isToday } from '../format';

/** A moment in the viewer's time zone: the time of day when it is of today; exact while one points at it. */
export function Moment({ at }: { at: string }) {
  return (
    <time dateTime={at} title={exactly(at)} className="whitespace-nowrap">
      {isToday(at) ? clock(at) : dayAndClock(at)}
    </time>
  );
}
