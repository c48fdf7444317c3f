import { expect, it } from 'vitest';
import { takeEvents } from './events';

it('cuts events out of a stream, however it comes', () => {
  const stream =
    'event: configuration\ndata: {"revision":2}\n\n: alive\n\nevent: verdict\ndata: {}\n\n';
  const wanted = [
    { name: 'configuration', data: '{"revision":2}' },
    { name: 'verdict', data: '{}' },
  ];
  for (let cut = 0; cut <= stream.length; cut += 1) {
    const first = takeEvents(stream.slice(0, cut));
    const second = takeEvents(first.rest + stream.slice(cut));
    expect([...first.events, ...second.events]).toEqual(wanted);
    expect(second.rest).toBe('');
  }
});
