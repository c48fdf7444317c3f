import type { Route } from '../api/types';
import { CopyButton } from '../shared/CopyButton';
import { CELL, MONO, Table } from '../shared/Table';

/** What other systems ask for when a route is registered with them, each to copy. */
export function RegisteredValues({ route: { url, values } }: { route: Route }) {
  const rows: (readonly [string, string | null | undefined, string])[] = [
    ['URL', url, 'to open'],
    ['Origin', values.origin, 'for CORS and content policies'],
    ['Redirect URI begins with', values.callback_base, 'for single sign-on and webhooks'],
    ['Host', values.host, 'for lists of hosts that an app serves'],
    ['Port', String(values.port), 'on which it is reached'],
    ['Cookie domain', values.cookie_domain, 'for cookies that names below share'],
  ];
  return (
    <Table titles={['Value', 'Here', 'What for', '']} label="Values to register elsewhere">
      {rows.map(
        ([title, value, about]) =>
          value != null &&
          value !== '' && (
            <tr key={title}>
              <td className={`${CELL} whitespace-nowrap`}>{title}</td>
              <td className={`${MONO} break-all`}>{value}</td>
              <td className={`${CELL} w-full text-muted`}>{about}</td>
              <td className={CELL}>
                <CopyButton text={value} what={`${title}: ${value}`} />
              </td>
            </tr>
          ),
      )}
    </Table>
  );
}
