/** What the API sends, by the names that the console has for it; made from its OpenAPI document. */
import type { components, operations } from './schema';

type Schemas = components['schemas'];
export type Hop = Schemas['Hop'];
export type HopState = Schemas['HopState'];
export type HopReport = Schemas['HopReport'];
export type Finding = Schemas['Finding'];
export type Action = Schemas['Action'];
export type Verdict = Schemas['Verdict'];
export type Since = Schemas['Since'];
export type Machine = Schemas['MachineVerdict'];
export type MachineItem = Schemas['MachineItem'];
export type MachinePlan = Schemas['MachinePlan'];
export type Guide = Schemas['Guide'];
export type Status = Schemas['Status'];
export type Advice = Schemas['Advice'];
export type Route = Schemas['RouteView'];
export type RouteInput = Schemas['RouteInput'];
export type RouteHistory = Schemas['RouteHistory'];
export type StateChange = Schemas['RouteStateChange'];
export type Zone = Schemas['ZoneView'];
export type ZoneSettings = Schemas['ZoneSettings'];
export type DnsRecord = Schemas['RecordView'];
export type Query = Schemas['QueryView'];
export type Queries = Schemas['Queries'];
export type Upstream = Schemas['UpstreamView'];
export type NameExplanation = Schemas['NameExplanation'];
export type ProblemBody = Schemas['Problem'];
export type Authority = Schemas['AuthorityView'];
export type Certificate = Schemas['CertificateView'];
export type Exported = Schemas['ExportedView'];
export type Signed = Schemas['Signed'];
export type TrustStore = Schemas['StoreView'];
export type Exchange = Schemas['Exchange'];
export type Timings = Schemas['Timings'];
export type Traffic = Schemas['Traffic'];
export type RouteTraffic = Schemas['RouteTraffic'];
export type TrafficSummary = Schemas['TrafficSummary'];
export type TrafficSeries = Schemas['TrafficSeries'];
export type App = Schemas['AppView'];
export type Port = Schemas['PortView'];
export type Container = Schemas['ContainerView'];
export type OutputLine = Schemas['OutputLineView'];
export type AppOutput = Schemas['AppOutput'];
export type Session = Schemas['SessionView'];
export type JournalEntry = Schemas['JournalEntry'];
/** Which exchanges are wanted; a status is one such as `404`, `5xx` or `400-499`. */
export type TrafficFilter = Pick<
  NonNullable<operations['list_traffic']['parameters']['query']>,
  'route' | 'status' | 'method' | 'text'
>;
