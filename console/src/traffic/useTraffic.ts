import { useEffect, useState } from 'react';
import { Problem } from '../api/client';
import { followTraffic, listTraffic } from '../api/queries';
import type { Exchange, TrafficFilter } from '../api/types';

/** Exchanges that are shown at most. */
const SHOWN = 200;
/** How long what comes gathers before it is drawn. */
const GATHER_MS = 250;
/** How long to wait before a call that failed is tried again. */
const AGAIN_MS = 2000;

interface Traffic {
  /** Newest first. */
  exchanges: readonly Exchange[];
  /** How many passed unseen, since they came faster than they could be read. */
  missed: number;
  /** What the filter has against itself. */
  refused?: string;
}

/** What passes and matches the filter, live; held still while paused. */
export function useTraffic(filter: TrafficFilter, paused: boolean): Traffic & { reading: boolean } {
  const { route, status, method, text } = filter;
  const [traffic, setTraffic] = useState<Traffic>({ exchanges: [], missed: 0 });
  const [reading, setReading] = useState(true);

  useEffect(() => {
    if (paused) return;
    const left = new AbortController();
    const wanted = { route, status, method, text };
    const follow = async () => {
      let last: number | undefined;
      while (!left.signal.aborted) {
        try {
          const news =
            last === undefined
              ? await listTraffic(wanted, SHOWN, left.signal)
              : await followTraffic(wanted, last, left.signal);
          if (left.signal.aborted) return;
          const anew = last === undefined;
          last = news.last;
          const came = [...news.exchanges].reverse();
          setReading(false);
          setTraffic((known) =>
            anew
              ? { exchanges: came, missed: 0 }
              : {
                  exchanges: [...came, ...known.exchanges].slice(0, SHOWN),
                  missed: known.missed + (news.missed ?? 0),
                },
          );
          await pause(GATHER_MS);
        } catch (error) {
          if (left.signal.aborted) return;
          if (error instanceof Problem && error.body.status === 422) {
            const refused = error.body.errors?.[0]?.reason ?? error.body.detail;
            setTraffic({ exchanges: [], missed: 0, refused });
            setReading(false);
            return;
          }
          // The connection's own notice says when the service is away; the list stays.
          last = undefined;
          await pause(AGAIN_MS);
        }
      }
    };
    void follow();
    return () => left.abort();
  }, [route, status, method, text, paused]);

  return { ...traffic, reading };
}

function pause(millis: number): Promise<void> {
  return new Promise((done) => setTimeout(done, millis));
}
