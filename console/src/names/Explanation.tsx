import { useQuery } from '@tanstack/react-query';
import type { FormEvent } from 'react';
import { useState } from 'react';
import { explanationQuery } from '../api/queries';
import { sentence } from '../format';
import { Prose } from '../shared/Prose';
import { Button } from '../shared/Button';
import { Fault } from '../shared/Notice';
import { pagePath, routePath } from '../state/place';
import { setParams } from '../state/usePlace';
import { reasonOf } from '../state/useChange';

/** A box that explains what the resolver answers for any name, and why. */
export function Explanation({ name, zone }: { name: string; zone: string }) {
  const [text, setText] = useState(name);
  const { data, error, isFetching } = useQuery({
    ...explanationQuery(name),
    enabled: name !== '',
  });
  const submit = (event: FormEvent) => {
    event.preventDefault();
    setParams({ name: text.trim() }, 'step');
  };
  return (
    <section
      aria-label="Explain a name"
      className="rounded-md border border-rule bg-card px-3 py-2"
    >
      <form onSubmit={submit} className="flex flex-wrap items-center gap-2" noValidate>
        <label htmlFor="explain" className="text-[14px] font-medium">
          Explain a name
        </label>
        <input
          id="explain"
          className="w-72 rounded-md border border-muted bg-paper px-2.5 py-1 font-mono text-[14px]"
          placeholder={`booking.${zone}`}
          autoComplete="off"
          autoCapitalize="none"
          spellCheck={false}
          value={text}
          onChange={(event) => setText(event.target.value)}
        />
        <Button type="submit">Explain</Button>
      </form>
      {name !== '' && error !== null && <Fault>{reasonOf(error)}</Fault>}
      {name !== '' && data !== undefined && (
        <div className="mt-2 text-[14px]" aria-live="polite" aria-busy={isFetching}>
          <p>
            <span className="font-semibold">{data.name}</span>
            {' → '}
            <span className="font-mono text-[13px]">
              {data.error ?? (data.addresses.length > 0 ? data.addresses.join(', ') : 'no address')}
            </span>
          </p>
          <p>
            <Prose text={sentence(data.reason)} />
          </p>
          {data.records !== undefined && data.records.length > 0 && (
            <ul className="mt-1 font-mono text-[13px] text-muted">
              {data.records.map((record) => (
                <li key={record}>{record}</li>
              ))}
            </ul>
          )}
          {data.zone != null && (
            <p className="mt-1">
              {data.route == null ? (
                <>
                  No route serves it.{' '}
                  <a
                    className="underline underline-offset-4"
                    href={pagePath('routes', { add: 'route', name: data.name })}
                  >
                    Add one
                  </a>
                </>
              ) : (
                <>
                  In a browser the route{' '}
                  <a className="underline underline-offset-4" href={routePath(data.route)}>
                    {data.route}
                  </a>{' '}
                  serves it.
                </>
              )}
            </p>
          )}
        </div>
      )}
    </section>
  );
}
