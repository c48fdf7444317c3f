import { useQuery } from '@tanstack/react-query';
import { certificateQuery } from '../api/queries';
import { sentence } from '../format';
import { Prose } from '../shared/Prose';
import { Button } from '../shared/Button';
import { CopyLine } from '../shared/CopyLine';
import { Fault } from '../shared/Notice';
import { Moment } from '../shared/Moment';
import { reasonOf } from '../state/useChange';
import { save } from '../shared/save';

/** The certificate that the proxy shows under a name, and why this one. */
export function ServedCertificate({ name }: { name: string }) {
  // A wildcard stands for any name below it.
  const { data, error } = useQuery(certificateQuery(name));
  if (error !== null) return <Fault>{reasonOf(error)}</Fault>;
  if (data === undefined) return <p className="text-muted">Reading …</p>;
  const facts: (readonly [string, React.ReactNode])[] = [
    ['Names', data.names?.join(', ')],
    ['Issuer', data.issuer],
    ['Valid from', data.not_before != null && <Moment at={data.not_before} />],
    ['Until', data.not_after != null && <Moment at={data.not_after} />],
    ['Renewed from', data.renewed_from != null && <Moment at={data.renewed_from} />],
  ];
  return (
    <div>
      <p className="max-w-[80ch]">
        <Prose text={sentence(data.reason)} />
      </p>
      <dl className="mt-3 grid grid-cols-[max-content_1fr] gap-x-6 gap-y-1 text-[14px]">
        {facts.map(
          ([title, value]) =>
            value != null &&
            value !== false && (
              <div key={title} className="contents">
                <dt className="text-muted">{title}</dt>
                <dd className="break-all">{value}</dd>
              </div>
            ),
        )}
      </dl>
      {data.fingerprint_sha256 != null && (
        <div className="mt-3">
          <p className="text-[14px] text-muted">SHA-256</p>
          <CopyLine text={data.fingerprint_sha256} />
        </div>
      )}
      {data.chain != null && (
        <p className="mt-3">
          <Button
            onClick={() =>
              save(new Blob([data.chain ?? '']), `${name.replace('*', 'wildcard')}.pem`)
            }
          >
            Save the chain as PEM
          </Button>
        </p>
      )}
    </div>
  );
}
