import { useQuery } from '@tanstack/react-query';
import * as Tooltip from '@radix-ui/react-tooltip';
import { useEffect, useState } from 'react';
import { isSignedOut } from './api/client';
import { appsQuery, machineQuery, routesQuery, zonesQuery } from './api/queries';
import type { App as AppView, Machine, Route, Zone } from './api/types';
import { CertificatesPage } from './certificates/CertificatesPage';
import { sentence, summary } from './format';
import { JournalPage } from './journal/JournalPage';
import { NamesPage } from './names/NamesPage';
import { FirstZone } from './names/ZoneForm';
import { Palette } from './palette/Palette';
import { useItems } from './palette/useItems';
import { RoutePage } from './route/RoutePage';
import { AddRouteDialog } from './routes/AddRouteDialog';
import { RoutesPage } from './routes/RoutesPage';
import { RunningPage } from './running/RunningPage';
import { Button, IconButton } from './shared/Button';
import { ErrorBoundary } from './shared/ErrorBoundary';
import { Icon } from './shared/Icon';
import { Menu, MenuChoice } from './shared/Menu';
import { Notice } from './shared/Notice';
import { Toasts } from './shared/Toasts';
import type { Page, Place } from './state/place';
import { PAGES, pagePath } from './state/place';
import { setTheme, useTheme } from './state/theme';
import type { Connection } from './state/useLive';
import { useLive } from './state/useLive';
import { usePlace } from './state/usePlace';
import { SystemPage } from './system/SystemPage';
import { TrafficPage } from './traffic/TrafficPage';

export function App({ refused }: { refused?: string }) {
  const routes = useQuery(routesQuery());
  const signedOut = isSignedOut(routes.error);
  const connection = useLive(!signedOut);
  return (
    <Toasts>
      <Tooltip.Provider delayDuration={400}>
        {signedOut ? (
          <SignedOut refused={refused} />
        ) : (
          <SignedIn
            routes={routes.data}
            failure={routes.error}
            connection={connection}
            onSignedOut={() => void routes.refetch()}
          />
        )}
      </Tooltip.Provider>
    </Toasts>
  );
}

function SignedOut({ refused }: { refused: string | undefined }) {
  return (
    <main className="mx-auto max-w-3xl px-4">
      <Notice title="You are not signed in">
        {refused !== undefined && <p className="text-vermilion">{sentence(refused)}</p>}
        Run <code className="font-mono">bentlane console</code> in a terminal: it opens this page
        with a link that signs you in.
      </Notice>
    </main>
  );
}

interface SignedInProps {
  routes: readonly Route[] | undefined;
  failure: Error | null;
  connection: Connection;
  onSignedOut: () => void;
}

const NO_APPS: readonly AppView[] = [];
const NO_ROUTES: readonly Route[] = [];

function SignedIn({ routes, failure, connection, onSignedOut }: SignedInProps) {
  const { data: zones } = useQuery(zonesQuery());
  const { data: machine } = useQuery(machineQuery());
  const { data: apps = NO_APPS } = useQuery(appsQuery());
  const place = usePlace();
  const [isFinding, setFinding] = useState(false);
  const items = useItems(routes ?? NO_ROUTES, apps);
  useShortcuts(() => setFinding(true));
  useTitle(place);
  return (
    <div className="mx-auto max-w-[1720px] px-4 pb-16 lg:px-6">
      <a
        href="#main"
        className="sr-only focus:not-sr-only focus:absolute focus:top-2 focus:left-2 focus:z-50 focus:bg-card focus:p-2"
        onClick={(event) => {
          event.preventDefault();
          document.getElementById('main')?.focus();
        }}
      >
        Skip to the content
      </a>
      <header className="flex flex-wrap items-center gap-x-5 gap-y-1 border-b border-rule py-2">
        <a href={pagePath('routes')} className="flex items-center gap-2 text-[17px] font-semibold">
          <Mark />
          Bent Lane
        </a>
        <Pages current={place.page} />
        <div className="ml-auto flex items-center gap-1">
          <Button kind="quiet" onClick={() => setFinding(true)} className="flex items-center gap-2">
            <Icon name="search" />
            <span className="max-sm:sr-only">Find</span>
            <kbd className="font-mono text-[12px] text-muted max-sm:hidden">Ctrl K</kbd>
          </Button>
          <ThemeMenu />
        </div>
      </header>
      <StatusLine routes={routes} machine={machine} connection={connection} />
      <main id="main" tabIndex={-1} className="outline-none">
        {place.page !== 'route' && <h1 className="sr-only">{TITLES[place.page]}</h1>}
        <ErrorBoundary key={place.page}>
          <Content
            place={place}
            routes={routes}
            zones={zones}
            apps={apps}
            machine={machine}
            failure={failure}
            onSignedOut={onSignedOut}
          />
        </ErrorBoundary>
      </main>
      <Palette open={isFinding} onClose={() => setFinding(false)} items={items} />
      <AddRouteDialog
        wanted={zones?.length === 0 ? undefined : place.params.add}
        name={place.params.name}
        zone={zones?.[0]?.name ?? 'moor.test'}
      />
    </div>
  );
}

interface ContentProps {
  place: Place;
  routes: readonly Route[] | undefined;
  zones: readonly Zone[] | undefined;
  apps: readonly AppView[];
  machine: Machine | undefined;
  failure: Error | null;
  onSignedOut: () => void;
}

function Content(props: ContentProps) {
  const { place, routes, zones, apps, machine, failure, onSignedOut } = props;
  const { page, params } = place;
  if (page === 'system') {
    return <SystemPage machine={machine} params={params} onSignedOut={onSignedOut} />;
  }
  if (routes === undefined || zones === undefined) {
    if (failure === null) return <p className="py-8 text-muted">Reading the routes …</p>;
    return (
      <Notice title="The service does not answer">
        {sentence(failure.message)} See whether <code className="font-mono">bentlane serve</code>{' '}
        still runs.
      </Notice>
    );
  }
  if (page === 'journal') return <JournalPage params={params} />;
  if (page === 'running') return <RunningPage params={params} />;
  if (zones.length === 0) return <FirstZone />;
  switch (page) {
    case 'names':
      return <NamesPage zones={zones} params={params} />;
    case 'traffic':
      return <TrafficPage routes={routes.map(({ address }) => address)} params={params} />;
    case 'certificates':
      return <CertificatesPage zones={zones} params={params} />;
    case 'route': {
      const route = routes.find(({ address }) => address === place.subject);
      if (route !== undefined) {
        return (
          <RoutePage
            key={route.address}
            route={route}
            apps={apps}
            machine={machine}
            params={params}
          />
        );
      }
      return (
        <Notice title="No such route">
          There is no route {place.subject}: it was removed, or has another address.{' '}
          <a className="underline" href={pagePath('routes')}>
            See all routes
          </a>
        </Notice>
      );
    }
    case 'routes':
      return <RoutesPage routes={routes} zones={zones} machine={machine} params={params} />;
  }
}

const TITLES: Record<(typeof PAGES)[number], string> = {
  routes: 'Routes',
  running: 'Running',
  traffic: 'Traffic',
  names: 'Names',
  certificates: 'Certificates',
  system: 'System',
  journal: 'Journal',
};

function Pages({ current }: { current: Page }) {
  return (
    <nav
      className="flex gap-x-4 overflow-x-auto max-lg:order-last max-lg:w-full"
      aria-label="Pages"
    >
      {PAGES.map((page) => (
        <a
          key={page}
          href={pagePath(page)}
          aria-current={
            page === current || (page === 'routes' && current === 'route') ? 'page' : undefined
          }
          className="border-b-2 border-transparent py-0.5 font-medium hover:border-amber aria-[current=page]:border-amber"
        >
          {TITLES[page]}
        </a>
      ))}
    </nav>
  );
}

interface StatusLineProps {
  routes: readonly Route[] | undefined;
  machine: Machine | undefined;
  connection: Connection;
}

/** How the routes are in a few words, and whether that is live. It is there from the start, so that nothing
 * below it moves. */
function StatusLine({ routes, machine, connection }: StatusLineProps) {
  const broken = routes?.some(({ verdict }) => verdict?.passed === false) === true;
  return (
    <p role="status" className="flex min-h-6 flex-wrap gap-x-3 pt-1 text-[14px]">
      {routes !== undefined && (
        <span className={broken ? 'text-vermilion' : 'text-muted'}>
          {summary(routes, machine?.passed === true)}
        </span>
      )}
      {connection === 'lost' && (
        <span className="font-semibold text-vermilion" data-connection="lost">
          Reconnecting: the service does not answer, and what is shown may be old.
        </span>
      )}
    </p>
  );
}

function ThemeMenu() {
  return (
    <Menu
      button={
        <IconButton label="Colours">
          <Icon name="theme" />
        </IconButton>
      }
    >
      <MenuChoice
        value={useTheme()}
        options={[
          ['system', 'As the system'],
          ['light', 'Light'],
          ['dark', 'Dark'],
        ]}
        onChoose={setTheme}
      />
    </Menu>
  );
}

/** Ctrl K, or Command K, finds; `/` goes to the page's filter. */
function useShortcuts(find: () => void) {
  useEffect(() => {
    const pressed = (event: KeyboardEvent) => {
      if ((event.ctrlKey || event.metaKey) && event.key.toLowerCase() === 'k') {
        event.preventDefault();
        find();
        return;
      }
      const target = event.target as HTMLElement;
      const isTyping =
        target.closest('input, textarea, select, [role=dialog], [role=menu]') !== null;
      if (event.key !== '/' || isTyping || event.ctrlKey || event.metaKey || event.altKey) return;
      const filter = document.querySelector<HTMLInputElement>('[data-filter]');
      if (filter === null) return;
      event.preventDefault();
      filter.focus();
    };
    addEventListener('keydown', pressed);
    return () => removeEventListener('keydown', pressed);
  }, [find]);
}

/** Names the window after the page, and goes to the top of a new one. */
function useTitle(place: Place) {
  const { page, subject } = place;
  useEffect(() => {
    const title = page === 'route' ? subject : TITLES[page];
    document.title = `${title ?? 'Routes'} · Bent Lane`;
    scrollTo(0, 0);
  }, [page, subject]);
}

function Mark() {
  return (
    <svg viewBox="0 0 32 32" className="size-7" aria-hidden="true">
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
