import type { Exchange } from '../api/types';
import { bytes, duration, exactly, totalOf } from '../format';
import { Button } from '../shared/Button';
import { routePath } from '../state/place';
import { setParams } from '../state/usePlace';
import { partsOf } from './timing';

/** One request: where its time went, and what is known of it. */
export function RequestDetails({ exchange }: { exchange: Exchange }) {
  const total = totalOf(exchange.timings);
  const facts: (readonly [string, React.ReactNode])[] = [
    ['When', exactly(exchange.at)],
    [
      'Route',
      exchange.route == null ? (
        'none answers to this name'
      ) : (
        <a className="underline underline-offset-4" href={routePath(exchange.route)}>
          {exchange.route}
        </a>
      ),
    ],
    ['Protocol', `${exchange.protocol}${exchange.secure ? ' over TLS' : ', plain'}`],
    ['Client', exchange.client],
    ['Received', bytes(exchange.received)],
    ['Sent', bytes(exchange.sent)],
    ['Finding', exchange.finding],
  ];
  return (
    <section
      aria-label="The request"
      className="mb-3 rounded-md border border-rule bg-card px-3 py-2 text-[14px]"
    >
      <div className="flex flex-wrap items-baseline gap-3">
        <h2 className="font-semibold break-all">
          {exchange.method} {exchange.name}
          {exchange.path}
        </h2>
        <p className="font-semibold">{exchange.status}</p>
        <Button className="ml-auto" onClick={() => setParams({ request: undefined })}>
          Close
        </Button>
      </div>
      <ol className="mt-2 grid grid-cols-1 gap-1" aria-label={`Where ${duration(total)} went`}>
        {partsOf(exchange.timings).map(({ title, micros, from, share }) => (
          <li key={title} className="grid grid-cols-[9rem_5rem_1fr] items-center gap-3">
            <span>{title}</span>
            <span className="text-right text-muted tabular-nums">{duration(micros)}</span>
            <svg
              viewBox="0 0 1000 10"
              preserveAspectRatio="none"
              className="h-3 w-full"
              aria-hidden="true"
            >
              <path d="M0 5H1000" stroke="var(--rule)" />
              <rect
                x={from * 1000}
                width={Math.max(share * 1000, 2)}
                height="10"
                fill="var(--amber)"
              />
            </svg>
          </li>
        ))}
      </ol>
      <dl className="mt-2 grid grid-cols-[max-content_1fr] gap-x-6 gap-y-0.5">
        {facts.map(
          ([title, value]) =>
            value != null && (
              <div key={title} className="contents">
                <dt className="text-muted">{title}</dt>
                <dd className="break-all">{value}</dd>
              </div>
            ),
        )}
      </dl>
    </section>
  );
}
