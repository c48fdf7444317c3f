import type { Authority } from '../api/types';
import { day, list } from '../format';
import { CopyLine } from '../shared/CopyLine';
import { DownloadButton } from '../shared/DownloadButton';
import { Fault } from '../shared/Notice';

const FORMS = [
  ['pem', 'PEM', 'bentlane-root.pem'],
  ['der', 'DER', 'bentlane-root.cer'],
  ['pkcs12', 'PKCS#12', 'bentlane-root.p12'],
  ['apple-profile', 'Apple profile', 'bentlane-root.mobileconfig'],
] as const;

/** The root: what it can vouch for, until when, and how to export it. */
export function AuthorityTab({ authority }: { authority: Authority | undefined }) {
  if (authority === undefined) return <p className="text-muted">Reading the certificates …</p>;
  const { limits, unconstrained, covers, uncovered = [], locked } = authority;
  const name = authority.subject.split('CN=').at(1) ?? authority.subject;
  return (
    <div className="max-w-[80ch]">
      <h2 className="text-[17px] font-semibold">{name}</h2>
      <p className="mt-1">
        {limits == null || unconstrained === true
          ? 'It is unconstrained: it can vouch for any name, and is never put into trust stores.'
          : `It can vouch for names at or below ${list(limits)}, and for the loopback addresses of this machine. For nothing else: clients refuse a certificate beyond that, whoever holds its key.`}
      </p>
      <p className="mt-1">
        Certificates are issued for {list(covers)}. The root’s key is{' '}
        {locked ? 'under a passphrase.' : 'in the data folder, for its owner alone.'} The root is
        valid until {day(authority.not_after)}, the issuing certificate until{' '}
        {day(authority.issuing_until)}.
      </p>
      {(uncovered.length > 0 || unconstrained === true) && (
        <Fault>
          {uncovered.length > 0 && `No client will accept a certificate for ${list(uncovered)}. `}
          Run <code className="font-mono">bentlane authority show</code>: it says how to fix that.
        </Fault>
      )}
      <p className="mt-3 text-[14px] text-muted">SHA-256</p>
      <CopyLine text={authority.fingerprint_sha256} />
      <h2 className="mt-5 font-semibold">Export the root</h2>
      <p className="text-[14px] text-muted">
        For phones, other machines and programs with a trust store of their own. It has no key in
        it.
      </p>
      <p className="mt-2 flex flex-wrap gap-2">
        {FORMS.map(([form, title, file]) => (
          <DownloadButton key={form} name={file} path={`/authority/root?form=${form}`}>
            Export as {title}
          </DownloadButton>
        ))}
      </p>
    </div>
  );
}
