import type { Reasons } from '../state/reasons';
import { Fault } from './Notice';

/** What is wrong with a form, without what its own `fields` say. */
export function OtherReasons({ reasons, fields }: { reasons: Reasons; fields: readonly string[] }) {
  return Object.entries(reasons)
    .filter(([field]) => !fields.includes(field))
    .map(([field, reason]) => <Fault key={field}>{reason}</Fault>);
}
