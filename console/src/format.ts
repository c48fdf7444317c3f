import type { Advice, Route, Timings, ZoneSettings } from './api/types';

/** Microseconds as a person reads them. */
export function duration(micros: number): string {
  if (micros < 1_000) return `${micros} µs`;
  if (micros < 10_000) return `${(Math.floor(micros / 100) / 10).toFixed(1)} ms`;
  if (micros < 1_000_000) return `${Math.floor(micros / 1_000)} ms`;
  if (micros < 60_000_000) return `${(Math.floor(micros / 100_000) / 10).toFixed(1)} s`;
  return `${Math.floor(micros / 60_000_000)} min`;
}

/** The whole time of an exchange, in microseconds. */
export function totalOf({ queue_us, connect_us, first_byte_us, last_byte_us }: Timings): number {
  return queue_us + (connect_us ?? 0) + first_byte_us + last_byte_us;
}

/** A number of bytes in a readable unit. */
export function bytes(count: number): string {
  if (count < 1_000) return `${count} B`;
  if (count < 1_000_000) return `${(count / 1_000).toFixed(1)} kB`;
  if (count < 1_000_000_000) return `${(count / 1_000_000).toFixed(1)} MB`;
  return `${(count / 1_000_000_000).toFixed(1)} GB`;
}

/** How often something happens in a second. */
export function perSecond(rate: number): string {
  return rate < 0.1 ? '< 0.1' : rate.toFixed(rate >= 10 ? 0 : 1);
}

/** Where a route leads, in words: a bare port is one of this machine. */
export function leadsTo(to: string): string {
  if (to.startsWith('redirect:')) return `redirects to ${to.slice('redirect:'.length)}`;
  if (to.startsWith('folder:')) return `answers with the files of ${to.slice('folder:'.length)}`;
  if (to.startsWith('container:')) return `leads to the container ${to.slice('container:'.length)}`;
  if (to.startsWith('app:')) return `leads to the app ${to.slice('app:'.length)}`;
  return /^\d+$/.test(to) ? `leads to port ${to}` : `leads to ${to}`;
}

/** Whether a browser can open the route: a pattern stands for many names, none of which is known to
 * be wanted, and raw TCP is not for browsers. */
export function opens(route: Route): boolean {
  return route.url.startsWith('https:') && !route.name.startsWith('*.');
}

/** How the routes do, in a few words. One whose lane is whole is proved only where this machine reaches
 * it, too. */
export function summary(routes: readonly Route[], reached: boolean): string {
  const noun = routes.length === 1 ? 'route' : 'routes';
  const broken = routes.filter((route) => route.verdict?.passed === false).length;
  const waits = (route: Route) => route.verdict?.hops.some((hop) => hop.state === 'not-tried');
  const stopped = routes.filter((route) => route.verdict?.passed === true && waits(route)).length;
  const whole = routes.filter((route) => route.verdict?.passed === true).length;
  const proved = whole - stopped;
  if (routes.length === 0) return 'no route yet';
  if (reached && proved === routes.length) return `${routes.length} ${noun}, every hop proved`;
  const parts = [
    proved > 0 ? `${proved} ${reached ? 'proved' : 'ready'}` : '',
    broken > 0 ? `${broken} broken` : '',
    stopped > 0 ? `${stopped} stopped until a visit` : '',
    whole + broken < routes.length ? `${routes.length - whole - broken} being checked` : '',
  ];
  return `${routes.length} ${noun}: ${parts.filter((part) => part !== '').join(', ')}`;
}

/** A sentence of the service, which writes them without capital and full stop. */
export function sentence(text: string): string {
  return text === '' ? '' : `${text.charAt(0).toUpperCase()}${text.slice(1)}.`;
}

/** What is questionable about a name, in one line. */
export function inOneLine(advice: readonly Advice[]): string | undefined {
  const words = advice.map(({ reason, better }) =>
    better === undefined ? reason : `${reason}; ${better} would be better`,
  );
  return words.length === 0 ? undefined : `Note: ${words.join('. ')}`;
}

/** Where the names of a zone lead. */
export function resolvesTo({ ipv4, ipv6, answers }: ZoneSettings): string {
  const addresses = [ipv4, ipv6].filter((address) => address != null);
  const place = addresses.length === 0 ? 'this machine' : addresses.join(' and ');
  return answers === 'every-name' ? place : `${place}, names of routes and records alone`;
}

/** The time of day of a moment, to the second. */
export function clock(moment: string): string {
  return new Date(moment).toLocaleTimeString(undefined, { hour12: false });
}

/** Whether a moment is of today, in this place. */
export function isToday(moment: string, now: Date = new Date()): boolean {
  return new Date(moment).toDateString() === now.toDateString();
}

/** A moment to the millisecond, with the time zone. */
export function exactly(moment: string): string {
  return new Date(moment).toLocaleString(undefined, {
    dateStyle: 'full',
    timeStyle: 'long',
    hour12: false,
  });
}

/** The day and the time of a moment, both of this place. */
export function dayAndClock(moment: string): string {
  const at = new Date(moment);
  const two = (number: number) => String(number).padStart(2, '0');
  return `${at.getFullYear()}-${two(at.getMonth() + 1)}-${two(at.getDate())} ${clock(moment)}`;
}

/** The name of a browser, from its user agent. */
export function browserName(agent: string): string {
  const known: [RegExp, string][] = [
    [/Edg\//, 'Edge'],
    [/Firefox\//, 'Firefox'],
    [/Chrom(e|ium)\//, 'Chromium or Chrome'],
    [/Safari\//, 'Safari'],
  ];
  return known.find(([pattern]) => pattern.test(agent))?.[1] ?? agent;
}

/** A moment as a day. */
export function day(at: string): string {
  return at.slice(0, 10);
}

/** The share of a period that has passed, from 0 to 1. */
export function share(from: string, until: string, now: number = Date.now()): number {
  const [start, end] = [Date.parse(from), Date.parse(until)];
  if (!(end > start)) return 1;
  return Math.min(Math.max((now - start) / (end - start), 0), 1);
}

/** Names in a sentence. */
export function list(names: readonly string[]): string {
  if (names.length < 2) return names.join('');
  return `${names.slice(0, -1).join(', ')} and ${names.at(-1)}`;
}
