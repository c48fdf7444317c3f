import type { TrustStore } from '../api/types';
import { CopyLine } from '../shared/CopyLine';
import { Notice } from '../shared/Notice';
import type { Tone } from '../shared/StateMark';
import { StateMark } from '../shared/StateMark';
import { CELL, MONO, Table } from '../shared/Table';

const STATES: Record<string, readonly [Tone, string]> = {
  trusted: ['good', 'trusts our certificates'],
  former: ['bad', 'holds a former root of ours'],
  'not-trusted': ['bad', 'does not trust the root'],
  unknown: ['idle', 'unknown'],
};

/** Who trusts the root, store by store, with what makes the others trust it. */
export function Stores({ stores }: { stores: readonly TrustStore[] | undefined }) {
  if (stores === undefined) return <p className="text-muted">Asking the trust stores …</p>;
  if (stores.length === 0) {
    return (
      <Notice title="No trust store was found">
        Programs with one of their own take the root from a file.
      </Notice>
    );
  }
  const wanting = stores.some(({ state }) => state === 'former' || state === 'not-trusted');
  return (
    <>
      {wanting && (
        <div className="mb-3 text-[14px]">
          <p>Have all of them trust the root; it asks before it changes anything:</p>
          <CopyLine text="sudo bentlane system attach --only trust" />
        </div>
      )}
      <Table titles={['Who', 'State', 'Store']} label="Trust stores">
        {stores.map((store) => {
          const [tone, word] = STATES[store.state] ?? ['idle', store.state];
          return (
            <tr key={`${store.client} ${store.path}`}>
              <td className={CELL}>{capitalized(store.client)}</td>
              <td className={CELL}>
                <StateMark tone={tone} word={word} />
                {store.reason != null && <p className="text-[13px] text-muted">{store.reason}</p>}
              </td>
              <td className={`${MONO} break-all text-muted`}>{store.path}</td>
            </tr>
          );
        })}
      </Table>
    </>
  );
}

/** A word of the service, which writes without capitals. */
function capitalized(text: string): string {
  return `${text.charAt(0).toUpperCase()}${text.slice(1)}`;
}
