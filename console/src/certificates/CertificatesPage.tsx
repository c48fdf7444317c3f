import { DownloadButton } from '../DownloadButton';
import { fetchRoot } from '../api/client';
import type { Authority, Certificate, TrustStore, Zone } from '../api/types';
import { CELL, Section, Table } from '../Section';
import { day, share } from '../format';
import { useCertificates } from './useCertificates';

/** The root, who trusts it, and which certificate each name has. */
export function CertificatesPage({ zones }: { zones: readonly Zone[] }) {
  const { authority, stores, certificates } = useCertificates(zones);
  if (authority === undefined)
    return <p className="py-10 text-muted">Reading the certificates …</p>;
  return (
    <div className="grid gap-10 py-6">
      <Root authority={authority} />
      <Stores stores={stores} />
      <Expiries authority={authority} certificates={certificates} />
    </div>
  );
}

const FORMS = [
  ['pem', 'PEM', 'bentlane-root.pem'],
  ['der', 'DER', 'bentlane-root.cer'],
  ['pkcs12', 'PKCS#12', 'bentlane-root.p12'],
  ['apple-profile', 'Apple profile', 'bentlane-root.mobileconfig'],
] as const;

function Root({ authority }: { authority: Authority }) {
  const { limits, unconstrained, covers, uncovered = [], locked } = authority;
  const name = authority.subject.split('CN=').at(1) ?? authority.subject;
  return (
    <Section id="authority" title="The authority">
      <p className="mt-2 font-semibold">{name}</p>
      <p className="mt-2 max-w-[72ch]">
        {limits == null || unconstrained
          ? 'It is unconstrained: it can vouch for any name, and is never put into trust stores.'
          : `It can vouch for names at or below ${list(limits)}, and for the loopback addresses of this machine. For nothing else: clients refuse a certificate beyond that, whoever holds its key.`}
      </p>
      <p className="mt-1 max-w-[72ch]">
        Certificates are issued for {list(covers)}. The root's key is{' '}
        {locked ? 'under a passphrase.' : 'in the data folder, for its owner alone.'}
      </p>
      {(uncovered.length > 0 || unconstrained) && (
        <p role="alert" className="mt-2 text-vermilion">
          {uncovered.length > 0 && `No client will accept a certificate for ${list(uncovered)}. `}
          Run <code className="font-mono">bentlane authority show</code>: it says how to fix that.
        </p>
      )}
      <p className="mt-3 font-mono text-[13px] break-all text-muted">
        SHA-256 {authority.fingerprint_sha256}
      </p>
      <p className="mt-3 flex flex-wrap gap-2">
        {FORMS.map(([form, title, file]) => (
          <DownloadButton key={form} name={file} fetchFile={() => fetchRoot(form)}>
            Export as {title}
          </DownloadButton>
        ))}
      </p>
    </Section>
  );
}

const STATES: Record<TrustStore['state'], string> = {
  trusted: 'trusts our certificates',
  former: 'holds a former root of ours',
  'not-trusted': 'does not trust the root',
  unknown: 'cannot be told',
};

/** A word of the service, which writes without capitals. */
function capitalized(text: string): string {
  return `${text.charAt(0).toUpperCase()}${text.slice(1)}`;
}

function Stores({ stores }: { stores: readonly TrustStore[] | undefined }) {
  const wanting = stores?.some(
    (store) => store.state === 'former' || store.state === 'not-trusted',
  );
  return (
    <Section id="stores" title="Who trusts it">
      {stores === undefined && <p className="mt-2 text-muted">Asking the trust stores …</p>}
      {stores?.length === 0 && <p className="mt-2 text-muted">No trust store was found.</p>}
      {stores !== undefined && stores.length > 0 && (
        <Table titles={['Store', '', 'Where']}>
          {stores.map((store) => (
            <tr key={store.client}>
              <td className={CELL}>{capitalized(store.client)}</td>
              <td className={`${CELL} ${tone(store.state)}`}>
                {store.state === 'trusted' ? '● ' : store.state === 'unknown' ? '○ ' : '✕ '}
                {STATES[store.state]}
                {store.state === 'unknown' && store.reason !== undefined && `: ${store.reason}`}
              </td>
              <td className={`${CELL} font-mono text-[14px] break-all text-muted`}>{store.path}</td>
            </tr>
          ))}
        </Table>
      )}
      {wanting === true && (
        <p className="mt-3">
          Have them trust it:{' '}
          <code className="font-mono text-[15px]">sudo bentlane system attach --only trust</code>
        </p>
      )}
    </Section>
  );
}

function tone(state: TrustStore['state']): string {
  switch (state) {
    case 'trusted':
      return 'text-teal';
    case 'unknown':
      return 'text-muted';
    default:
      return 'text-vermilion';
  }
}

interface Life {
  name: string;
  from?: string | null;
  until?: string | null;
  renewed?: string | null;
}

/** How much of its life each certificate has behind it, the soonest to end first. */
function Expiries({
  authority,
  certificates,
}: {
  authority: Authority;
  certificates: readonly Certificate[];
}) {
  const leaves: Life[] = certificates.map((certificate) => ({
    name: certificate.name,
    from: certificate.not_before,
    until: certificate.not_after,
    renewed: certificate.renewed_from,
  }));
  const all: Life[] = [
    ...leaves,
    { name: 'issuing certificate', until: authority.issuing_until },
    { name: 'root', from: authority.not_before, until: authority.not_after },
  ];
  all.sort((a, b) => (a.until ?? '').localeCompare(b.until ?? ''));
  return (
    <Section id="expiries" title="What ends when">
      <Table titles={['Certificate', 'Life', 'Ends', 'Renewed by itself']}>
        {all.map(({ name, from, until, renewed }) => (
          <tr key={name}>
            <td className={CELL}>{name}</td>
            <td className={`${CELL} w-56`}>
              {from != null && until != null && <Bar gone={share(from, until)} />}
            </td>
            <td className={CELL}>
              {until == null ? (
                <span className="text-muted">made when it is asked for</span>
              ) : (
                day(until)
              )}
            </td>
            <td className={`${CELL} text-muted`}>{renewed != null && `from ${day(renewed)}`}</td>
          </tr>
        ))}
      </Table>
    </Section>
  );
}

function Bar({ gone }: { gone: number }) {
  const percent = Math.round(gone * 100);
  return (
    <span
      role="img"
      aria-label={`${percent} % of its life is over`}
      className="mt-2 block h-2 overflow-hidden rounded-full bg-rule"
    >
      <span className="block h-full bg-teal" style={{ width: `${Math.max(percent, 2)}%` }} />
    </span>
  );
}

function list(names: readonly string[]): string {
  if (names.length < 2) return names.join('');
  return `${names.slice(0, -1).join(', ')} and ${names.at(-1)}`;
}
