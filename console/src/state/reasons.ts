import { Problem } from '../api/client';

/** What is wrong, by the field that it is about; `form` for all of it. */
export type Reasons = Readonly<Record<string, string>>;

/** What an error says of the fields of a form. */
export function reasonsOf(error: unknown): Reasons {
  if (!(error instanceof Problem)) {
    return { form: error instanceof Error ? error.message : String(error) };
  }
  const errors = error.body.errors ?? [];
  if (errors.length === 0) return { form: error.body.detail };
  return Object.fromEntries(errors.map(({ field, reason }) => [field, reason]));
}
