import { useCallback, useEffect, useReducer, useRef } from 'react';
import { Problem, listRoutes, listZones } from '../api/client';
import type { ServiceEvent } from '../api/events';
import { followEvents } from '../api/events';
import type { Verdict } from '../api/types';
import type { ConsoleState } from './reducer';
import { initial, reduce } from './reducer';

interface Console extends ConsoleState {
  /** Reads everything again. */
  reload: () => Promise<void>;
  /** Takes in what a check came to. */
  note: (verdicts: readonly Verdict[]) => void;
}

/** The routes and zones, kept up to date by the service's events. */
export function useConsole(): Console {
  const [state, dispatch] = useReducer(reduce, initial);

  const load = useCallback(async () => {
    try {
      const [routes, zones] = await Promise.all([listRoutes(), listZones()]);
      dispatch({ type: 'loaded', routes, zones });
    } catch (error) {
      if (error instanceof Problem && error.body.status === 401) dispatch({ type: 'signed-out' });
      else dispatch({ type: 'failed', message: String(error) });
    }
  }, []);

  // An event that comes while everything is being read may be newer than what was read: so it is read
  // once more then. This also makes one reading of several that are asked for at once.
  const reading = useRef<Promise<void>>(null);
  const again = useRef(false);
  const reload = useCallback(() => {
    const readUntilNothingIsNew = async () => {
      while (again.current) {
        again.current = false;
        await load();
      }
      reading.current = null;
    };
    again.current = true;
    reading.current ??= readUntilNothingIsNew();
    return reading.current;
  }, [load]);

  const note = useCallback((verdicts: readonly Verdict[]) => {
    dispatch({ type: 'verdicts', verdicts });
  }, []);

  useEffect(() => {
    void reload();
    const following = new AbortController();
    const listener = {
      // Events from before the stream was open, or while it was lost, were not sent.
      onOpen: () => {
        dispatch({ type: 'connection', connection: 'live' });
        void reload();
      },
      onLost: () => {
        dispatch({ type: 'connection', connection: 'lost' });
        // A stream that was refused is, too; a reload says why.
        void reload();
      },
      onEvent: ({ name, data }: ServiceEvent) => {
        if (name !== 'verdict') {
          void reload();
          return;
        }
        note([JSON.parse(data) as Verdict]);
        if (reading.current !== null) again.current = true;
      },
    };
    void followEvents(listener, following.signal);
    return () => following.abort();
  }, [reload, note]);

  return { ...state, reload, note };
}
