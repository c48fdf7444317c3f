import { useState } from 'react';
import { Button } from './Button';
import { Notice } from './Notice';
import { Machine } from './Machine';
import { check, readMachine } from './api/client';
import type { Machine as Seen, Verdict } from './api/types';
import { CertificatesPage } from './certificates/CertificatesPage';
import { sentence, summary } from './format';
import { NamesPage } from './names/NamesPage';
import { FirstZone } from './names/ZoneForm';
import { AddRouteDialog } from './routes/AddRouteDialog';
import { RoutePage } from './routes/RoutePage';
import { RouteRow } from './routes/RouteRow';
import type { ConsoleState, Known } from './state/reducer';
import { useConsole } from './state/useConsole';
import type { Page, Place } from './state/usePage';
import { SessionsPage } from './sessions/SessionsPage';
import { TrafficPage } from './traffic/TrafficPage';
import { usePlace } from './state/usePage';
import { usePolled } from './state/usePolled';

/** How often this machine is looked at. */
const MACHINE_EVERY_MS = 15_000;

export function App({ refused }: { refused?: string }) {
  const { known, connection, note, reload } = useConsole();
  const place = usePlace();
  const [machine] = usePolled('machine', readMachine, MACHINE_EVERY_MS);
  return (
    <div className="mx-auto max-w-[1120px] px-6 pb-16">
      <header className="flex flex-wrap items-center gap-x-4 gap-y-2 border-b border-rule py-5">
        <Mark />
        <h1 className="text-[22px] font-semibold">Bent Lane</h1>
        {known.status === 'ready' && known.zones.length > 0 && <Pages current={place.page} />}
        {known.status === 'ready' && (
          <Summary known={known} connection={connection} reached={machine?.passed === true} />
        )}
        <div className="ml-auto flex gap-2">
          {known.status === 'ready' && known.routes.length > 0 && <CheckAll onChecked={note} />}
          {known.status === 'ready' && known.zones.length > 0 && (
            <AddRouteDialog zone={known.zones[0]?.name ?? 'moor.test'} />
          )}
        </div>
      </header>
      <main>
        <Content
          known={known}
          place={place}
          machine={machine}
          refused={refused}
          onChecked={note}
          onSignedOut={() => void reload()}
        />
      </main>
    </div>
  );
}

function Pages({ current }: { current: Page }) {
  const link = (page: Page, title: string) => (
    <a
      href={`#${page}`}
      aria-current={page === current ? 'page' : undefined}
      className="border-b-2 border-transparent pb-0.5 font-medium hover:border-amber aria-[current=page]:border-amber"
    >
      {title}
    </a>
  );
  return (
    <nav className="ml-3 flex gap-4" aria-label="Pages">
      {link('routes', 'Routes')}
      {link('traffic', 'Traffic')}
      {link('names', 'Names')}
      {link('certificates', 'Certificates')}
      {link('sessions', 'Sessions')}
    </nav>
  );
}

function Content({
  known,
  place: { page, route: address },
  machine,
  refused,
  onChecked,
  onSignedOut,
}: {
  known: Known;
  place: Place;
  machine: Seen | undefined;
  /** Why the link did not sign in. */
  refused?: string;
  onChecked: (verdicts: readonly Verdict[]) => void;
  onSignedOut: () => void;
}) {
  switch (known.status) {
    case 'loading':
      return <p className="py-10 text-muted">Reading the routes …</p>;
    case 'signed-out':
      return (
        <Notice title="You are not signed in">
          {refused !== undefined && <p className="text-vermilion">{sentence(refused)}</p>}
          Run <code className="font-mono">bentlane console</code> in a terminal: it opens this page
          with a link that signs you in.
        </Notice>
      );
    case 'failed':
      return (
        <Notice title="The service does not answer">
          {known.message}. See whether <code className="font-mono">bentlane serve</code> still runs.
        </Notice>
      );
    case 'ready':
      if (page === 'sessions') return <SessionsPage onSignedOut={onSignedOut} />;
      if (known.zones.length === 0) return <FirstZone />;
      if (page === 'names') return <NamesPage zones={known.zones} />;
      if (page === 'traffic') return <TrafficPage routes={known.routes} />;
      if (page === 'certificates') return <CertificatesPage zones={known.zones} />;
      if (address !== undefined) {
        const route = known.routes.find((route) => route.address === address);
        if (route !== undefined) {
          return <RoutePage key={address} route={route} onChecked={onChecked} />;
        }
        return (
          <Notice title="No such route">
            There is no route {address}: it was removed, or has another address.{' '}
            <a className="underline" href="#routes">
              See all routes
            </a>
          </Notice>
        );
      }
      if (known.routes.length === 0) {
        return (
          <Notice title="No route yet">
            Add one with the button above, or run{' '}
            <code className="font-mono">bentlane route add NAME PORT</code>.
          </Notice>
        );
      }
      return (
        <>
          <Machine machine={machine} />
          <ul aria-label="Routes" className="mt-2">
            {known.routes.map((route) => (
              <RouteRow key={route.address} route={route} onChecked={onChecked} />
            ))}
          </ul>
        </>
      );
  }
}

function Summary({
  known,
  connection,
  reached,
}: {
  known: Extract<Known, { status: 'ready' }>;
  connection: ConsoleState['connection'];
  /** Whether this machine reaches the routes. */
  reached: boolean;
}) {
  const broken = known.routes.some((route) => route.verdict?.passed === false);
  return (
    <p role="status" className={broken ? 'text-vermilion' : 'text-muted'}>
      {summary(known.routes, reached)}
      {connection === 'lost' && (
        <span className="text-vermilion"> · no longer live: is the service still running?</span>
      )}
    </p>
  );
}

function CheckAll({ onChecked }: { onChecked: (verdicts: readonly Verdict[]) => void }) {
  const [checking, setChecking] = useState(false);
  const checkAll = async () => {
    setChecking(true);
    try {
      onChecked(await check());
    } catch {
      // The notice of a lost connection says it.
    } finally {
      setChecking(false);
    }
  };
  return (
    <Button onClick={() => void checkAll()} disabled={checking}>
      {checking ? 'Checking …' : 'Check all now'}
    </Button>
  );
}

function Mark() {
  return (
    <svg viewBox="0 0 32 32" className="size-8" aria-hidden="true">
      <path
        d="M5 9h7l8 14h7"
        fill="none"
        stroke="var(--amber)"
        strokeWidth="3.5"
        strokeLinecap="round"
        strokeLinejoin="round"
      />
      <circle cx="5" cy="9" r="4" fill="var(--teal)" />
      <circle cx="27" cy="23" r="4" fill="var(--teal)" />
    </svg>
  );
}
