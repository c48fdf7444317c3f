import type { FormEvent } from 'react';
import { useState } from 'react';
import { endExport, exportCertificate, importCertificate, signRequest } from '../api/changes';
import type { Exported, Signed } from '../api/types';
import { day, list } from '../format';
import { Button } from '../shared/Button';
import { TextArea, TextField } from '../shared/Field';
import { Fault } from '../shared/Notice';
import { OtherReasons } from '../shared/OtherReasons';
import { Section } from '../shared/Section';
import { CELL, MONO, Table } from '../shared/Table';
import { save } from '../shared/save';
import { useChange, useFormChange } from '../state/useChange';

interface FilesProps {
  exported: readonly Exported[];
  zone: string;
}

/** Certificates for servers that want files, requests to sign, and certificates from elsewhere. */
export function Files({ exported, zone }: FilesProps) {
  const change = useChange();
  return (
    <div className="grid grid-cols-1 gap-8">
      <Section id="exported" title="Kept in folders">
        <p className="max-w-[80ch] text-[14px] text-muted">
          A key and a certificate for a server that wants files. They are written anew before they
          expire.
        </p>
        {exported.length > 0 && (
          <Table titles={['Folder', 'Names', 'Expiry', '']} label="Kept in folders">
            {exported.map(({ folder, names, not_after, container, trouble }) => (
              <tr key={`${container ?? ''} ${folder}`}>
                <td className={`${MONO} break-all`}>
                  {container != null && `${container}: `}
                  {folder}
                  {trouble != null && <Fault>{trouble}</Fault>}
                </td>
                <td className={CELL}>{list(names)}</td>
                <td className={CELL}>{not_after == null ? '' : day(not_after)}</td>
                <td className={CELL}>
                  {container == null && (
                    <Button
                      aria-label={`End ${folder}`}
                      onClick={() =>
                        change.mutate({
                          done: `${folder} is no longer kept fresh; its files stay`,
                          make: () => endExport(folder),
                          isFinal: true,
                        })
                      }
                    >
                      End
                    </Button>
                  )}
                </td>
              </tr>
            ))}
          </Table>
        )}
        <PairForm
          form="export"
          first={['names', 'Names', `api.${zone}, db.${zone}`, 'separated by commas']}
          second={['folder', 'Folder', '/srv/api/tls', 'on this machine, by its whole path']}
          submit="Issue"
          done={(_, folder) => `Issued into ${folder}`}
          make={(names, folder) => exportCertificate(names.split(/[\s,]+/).filter(Boolean), folder)}
        />
      </Section>
      <SignForm />
      <Section id="import" title="Import">
        <p className="max-w-[80ch] text-[14px] text-muted">
          A certificate from elsewhere is served under its names, and read again when its files
          change.
        </p>
        <PairForm
          form="import"
          first={[
            'certificate',
            'Certificate file',
            '/srv/certs/moor.pem',
            'with its chain, PEM or DER',
          ]}
          second={['key', 'Key file', '/srv/certs/moor.key', 'PEM']}
          submit="Import"
          done={(certificate) => `Imported ${certificate}`}
          make={importCertificate}
        />
      </Section>
    </div>
  );
}

/** The API's name of a field, its label, an example and a hint. */
type FieldWords = readonly [name: string, label: string, example: string, hint: string];

interface PairFormProps {
  form: string;
  first: FieldWords;
  second: FieldWords;
  submit: string;
  done: (first: string, second: string) => string;
  make: (first: string, second: string) => Promise<unknown>;
}

function PairForm({ form, first, second, submit, done, make }: PairFormProps) {
  const [texts, setTexts] = useState<readonly [string, string]>(['', '']);
  const change = useFormChange();
  const { reasons } = change;
  const [one, two] = [texts[0].trim(), texts[1].trim()];
  const onSubmit = (event: FormEvent) => {
    event.preventDefault();
    change.mutate(
      { done: done(one, two), make: () => make(one, two), isFinal: true },
      { onSuccess: () => setTexts(['', '']) },
    );
  };
  return (
    <form onSubmit={onSubmit} className="mt-3 max-w-4xl" noValidate data-form={form}>
      <div className="grid items-start gap-2 sm:grid-cols-[1fr_1fr_auto]">
        <TextField
          label={first[1]}
          placeholder={first[2]}
          hint={first[3]}
          value={texts[0]}
          reason={reasons[first[0]]}
          onText={(text) => setTexts([text, texts[1]])}
        />
        <TextField
          label={second[1]}
          placeholder={second[2]}
          hint={second[3]}
          value={texts[1]}
          reason={reasons[second[0]]}
          onText={(text) => setTexts([texts[0], text])}
        />
        <Button kind="primary" type="submit" className="sm:mt-[23px]" disabled={change.isPending}>
          {submit}
        </Button>
      </div>
      <OtherReasons reasons={reasons} fields={[first[0], second[0]]} />
    </form>
  );
}

function SignForm() {
  const [request, setRequest] = useState('');
  const [signed, setSigned] = useState<Signed>();
  const change = useFormChange();
  const { reasons } = change;
  const submit = (event: FormEvent) => {
    event.preventDefault();
    setSigned(undefined);
    change.mutate({
      done: 'Signed the request',
      make: async () => setSigned(await signRequest(request)),
      isFinal: true,
    });
  };
  return (
    <Section id="sign" title="Sign a request">
      <form onSubmit={submit} className="mt-2 max-w-4xl" noValidate data-form="sign">
        <TextArea
          label="Certificate request (PKCS#10, PEM)"
          hint="the private key stays where it was made"
          rows={4}
          placeholder="-----BEGIN CERTIFICATE REQUEST-----"
          value={request}
          reason={reasons.request ?? reasons.form}
          onText={setRequest}
        />
        <Button kind="primary" type="submit" className="mt-1" disabled={change.isPending}>
          Sign
        </Button>
      </form>
      {signed !== undefined && (
        <p className="mt-2 flex flex-wrap items-center gap-2 text-[14px]">
          Valid for {list(signed.names)} until {day(signed.not_after)}.
          <Button
            onClick={() => save(new Blob([signed.certificate, signed.chain]), 'certificate.pem')}
          >
            Save it with its chain
          </Button>
        </p>
      )}
    </Section>
  );
}
