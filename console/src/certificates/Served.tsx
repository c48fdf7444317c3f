import type { Authority, Certificate } from '../api/types';
import { day, exactly, sentence, share } from '../format';
import { CELL, Table } from '../shared/Table';

interface Life {
  name: string;
  reason?: string;
  from?: string | null;
  until?: string | null;
  renewed?: string | null;
}

/** Which certificate each name is served with and why, and how much of its life it has behind it; the
 * soonest to expire first. */
export function Served({
  authority,
  certificates,
}: {
  authority: Authority | undefined;
  certificates: readonly Certificate[];
}) {
  const leaves: Life[] = certificates.map((certificate) => ({
    name: certificate.name,
    reason: certificate.reason,
    from: certificate.not_before,
    until: certificate.not_after,
    renewed: certificate.renewed_from,
  }));
  const own: Life[] =
    authority === undefined
      ? []
      : [
          { name: 'issuing certificate', until: authority.issuing_until },
          { name: 'root', from: authority.not_before, until: authority.not_after },
        ];
  const all = [...leaves, ...own].sort((a, b) => (a.until ?? '').localeCompare(b.until ?? ''));
  return (
    <Table
      titles={['Certificate', 'Why this one', 'Life', 'Expiry', 'Renewed']}
      label="Certificates"
    >
      {all.map(({ name, reason, from, until, renewed }) => (
        <tr key={name}>
          <td className={CELL}>{name}</td>
          <td className={`${CELL} text-muted`}>{reason === undefined ? '' : sentence(reason)}</td>
          <td className={`${CELL} w-48`}>
            {from != null && until != null && <Bar gone={share(from, until)} />}
          </td>
          <td className={`${CELL} whitespace-nowrap`}>
            {until == null ? (
              <span className="text-muted">made on request</span>
            ) : (
              <time dateTime={until} title={exactly(until)}>
                {day(until)}
              </time>
            )}
          </td>
          <td className={`${CELL} whitespace-nowrap text-muted`}>
            {renewed != null && `from ${day(renewed)}`}
          </td>
        </tr>
      ))}
    </Table>
  );
}

function Bar({ gone }: { gone: number }) {
  const percent = Math.round(gone * 100);
  return (
    <svg
      role="img"
      aria-label={`${percent} % of its life is over`}
      viewBox="0 0 100 6"
      preserveAspectRatio="none"
      className="mt-2 block h-1.5 w-full"
    >
      <rect width="100" height="6" rx="3" fill="var(--rule)" />
      <rect width={Math.max(percent, 2)} height="6" rx="3" fill="var(--teal)" />
    </svg>
  );
}
