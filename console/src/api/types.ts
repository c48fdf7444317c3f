/** What the API sends; the OpenAPI document at `/api/v1/openapi.json` says more. */

export type Hop = 'resolve' | 'handshake' | 'connect' | 'answer' | 'expect';
export type HopState = 'passed' | 'broken' | 'not-reached' | 'not-declared';

export interface HopReport {
  hop: Hop;
  state: HopState;
  detail: string;
  evidence?: string[];
  micros?: number;
}

export interface Finding {
  slug: string;
  hop: Hop;
  severity: 'error' | 'warning' | 'hint';
  summary: string;
  evidence: string[];
  fix: { text: string; command?: string };
}

export interface Verdict {
  address: string;
  name: string;
  url: string;
  to: string;
  passed: boolean;
  flapping: boolean;
  hops: HopReport[];
  findings: Finding[];
  checked_at: string;
}

/** Whether programs on this machine reach what routes serve. */
export interface Machine {
  passed: boolean;
  items: MachineItem[];
}

export interface MachineItem {
  part: 'lookups' | 'trust' | 'ports' | 'browser';
  subject: string;
  state: 'passed' | 'hint' | 'failed';
  summary: string;
  fix?: { text: string; command?: string };
}

/** What is questionable about a name. */
export interface Advice {
  slug: string;
  reason: string;
  better?: string;
}

export interface Route {
  address: string;
  name: string;
  prefix: string;
  to: string;
  url: string;
  settings: RouteSettings;
  advice?: Advice[];
  verdict?: Verdict;
}

/** What was chosen of how a route leads to its target, as far as it is shown. */
export interface RouteSettings {
  paused?: boolean;
  note?: string;
}

/** What the names of a zone resolve to. */
export interface ZoneSettings {
  ttl: number;
  answers: 'every-name' | 'routed-names';
  ipv4?: string;
  ipv6?: string;
}

/** A DNS record of one's own. */
export interface RecordOfOnesOwn {
  zone: string;
  owner: string;
  type: string;
  data: string;
  ttl: number;
}

/** A question that the resolver was asked. */
export interface Query {
  at: string;
  name: string;
  type: string;
  client: string;
  process?: string;
  pid?: number;
  outcome: 'ours' | 'kept' | 'forwarded' | 'blocked' | 'refused';
  code?: string;
}

export interface Zone {
  name: string;
  routes: number;
  settings: ZoneSettings;
  advice?: Advice[];
}

export interface RouteInput {
  name: string;
  prefix?: string;
  to: string;
}

export interface FieldError {
  field: string;
  reason: string;
}

export interface ProblemBody {
  title: string;
  status: number;
  detail: string;
  errors?: FieldError[];
}

export interface Authority {
  subject: string;
  fingerprint_sha256: string;
  not_before: string;
  not_after: string;
  /** `null` when the root can vouch for anything. */
  limits: string[] | null;
  /** Whether its key can vouch for any name. */
  unconstrained: boolean;
  covers: string[];
  uncovered?: string[];
  locked: boolean;
  issuing_until: string;
  follows_another: boolean;
}

export interface TrustStore {
  client: string;
  kind: 'system' | 'policy' | 'browser' | 'java';
  path: string;
  state: 'trusted' | 'former' | 'not-trusted' | 'unknown';
  reason?: string;
}

export interface Certificate {
  name: string;
  reason: string;
  names?: string[];
  not_before?: string;
  not_after?: string;
  renewed_from?: string;
}

/** Which exchanges are wanted. */
export interface TrafficFilter {
  route?: string;
  /** Such as `404`, `5xx` or `400-499`. */
  status?: string;
  method?: string;
  text?: string;
}

/** How long the steps of an exchange took, in microseconds. */
export interface Timings {
  queue_us: number;
  connect_us?: number;
  first_byte_us: number;
  last_byte_us: number;
}

/** A request and its response, as the proxy saw them. */
export interface Exchange {
  id: number;
  at: string;
  route?: string;
  client: string;
  secure: boolean;
  protocol: 'http/1.0' | 'http/1.1' | 'h2';
  method: string;
  name: string;
  path: string;
  status: number;
  ending: 'whole' | 'stream' | 'upgraded' | 'client-left' | 'target-broke-off';
  /** Why the answer is our own. */
  finding?: string;
  received: number;
  sent: number;
  timings: Timings;
}

export interface Traffic {
  /** Latest last. */
  exchanges: Exchange[];
  last: number;
  missed: number;
  left_out: number;
  not_kept: number;
}

/** What the exchanges of a route come to. */
export interface RouteTraffic {
  route?: string;
  exchanges: number;
  per_second: number;
  errors: number;
  sent: number;
  p50_us: number;
  p95_us: number;
  p99_us: number;
}

/** A browser that is signed in. */
export interface Session {
  id: number;
  user: string;
  browser: string;
  since: string;
  used: string;
  /** Whether it is this one. */
  own: boolean;
}
