import { authorization } from './session';

/** An event of the service's stream. */
export interface ServiceEvent {
  name: string;
  data: string;
}

/** What happens to the stream. */
export interface Listener {
  /** It is open; events from before were not sent. */
  onOpen: () => void;
  /** It was lost, or refused; it is tried again after a moment. */
  onLost: () => void;
  onEvent: (event: ServiceEvent) => void;
}

/** How long to wait before a stream that was lost is tried again. */
const AGAIN_MS = 2000;

/** Cuts the events out of what has come of a stream (HTML, "Server-sent events"); gives what is left
 * of the last one. */
export function takeEvents(text: string): { events: ServiceEvent[]; rest: string } {
  const parts = text.split('\n\n');
  const rest = parts.pop() ?? '';
  const events = parts.map((part) => {
    const event: ServiceEvent = { name: 'message', data: '' };
    for (const line of part.split('\n')) {
      if (line.startsWith('event: ')) event.name = line.slice('event: '.length);
      if (line.startsWith('data: ')) event.data += line.slice('data: '.length);
    }
    return event;
  });
  return { events: events.filter((event) => event.data !== ''), rest };
}

/** Follows the service's events until `signal` ends it. The browser's own reader of such streams
 * sends no session, so this is read with `fetch`. */
export async function followEvents(listener: Listener, signal: AbortSignal): Promise<void> {
  while (!signal.aborted) {
    try {
      await readStream(listener, signal);
    } catch {
      // What was wrong shows in the next call.
    }
    if (signal.aborted) return;
    listener.onLost();
    await new Promise((resume) => setTimeout(resume, AGAIN_MS));
  }
}

async function readStream(listener: Listener, signal: AbortSignal): Promise<void> {
  const response = await fetch('/api/v1/events', { headers: authorization(), signal });
  if (!response.ok || response.body === null) return;
  listener.onOpen();
  const reader = response.body.pipeThrough(new TextDecoderStream()).getReader();
  let text = '';
  for (;;) {
    const { done, value } = await reader.read();
    if (done) return;
    const { events, rest } = takeEvents(text + value);
    text = rest;
    events.forEach(listener.onEvent);
  }
}
