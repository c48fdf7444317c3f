import type { ReactNode } from 'react';
import { useState } from 'react';
import { Button } from './Button';
import { sentence } from './format';

/** Fetches a file with the session, which a plain link would not send, and saves it. */
export function DownloadButton({
  name,
  fetchFile,
  children,
}: {
  /** What the file is called. */
  name: string;
  fetchFile: () => Promise<Blob>;
  children: ReactNode;
}) {
  const [fault, setFault] = useState<string>();
  const save = async () => {
    try {
      const url = URL.createObjectURL(await fetchFile());
      const link = document.createElement('a');
      link.href = url;
      link.download = name;
      link.click();
      URL.revokeObjectURL(url);
      setFault(undefined);
    } catch (error) {
      setFault(error instanceof Error ? error.message : String(error));
    }
  };
  return (
    <>
      <Button onClick={() => void save()}>{children}</Button>
      {fault !== undefined && (
        <span role="alert" className="text-vermilion">
          {sentence(fault)}
        </span>
      )}
    </>
  );
}
