import { useCallback, useEffect, useReducer, useRef } from 'react';
import { Problem, listRoutes, listZones } from '../api/client';
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

  // What is told while everything is being read may be newer than what was read: so it is read
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
    const events = new EventSource('/api/v1/events');
    // What happened before the stream was open, or while it was lost, was not told.
    events.onopen = () => {
      dispatch({ type: 'connection', connection: 'live' });
      void reload();
    };
    events.onerror = () => {
      dispatch({ type: 'connection', connection: 'lost' });
      // A stream that was refused outright is not tried again by the browser; a reload tells why.
      if (events.readyState === EventSource.CLOSED) void reload();
    };
    events.addEventListener('configuration', () => void reload());
    events.addEventListener('lagged', () => void reload());
    events.addEventListener('verdict', (event: MessageEvent<string>) => {
      note([JSON.parse(event.data) as Verdict]);
      if (reading.current !== null) again.current = true;
    });
    return () => events.close();
  }, [reload, note]);

  return { ...state, reload, note };
}
