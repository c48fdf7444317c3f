import { useMutation } from '@tanstack/react-query';
import type { ReactNode } from 'react';
import { getFile } from '../api/client';
import { reasonOf } from '../state/useChange';
import { Button } from './Button';
import { save } from './save';
import { useToasts } from './useToasts';

/** Fetches a file with the session, which a plain link would not send, and saves it. */
export function DownloadButton({
  name,
  path,
  children,
}: {
  /** What the file is called. */
  name: string;
  /** Where the API has it. */
  path: string;
  children: ReactNode;
}) {
  const { show } = useToasts();
  const fetching = useMutation({
    mutationFn: () => getFile(path),
    onSuccess: (file) => save(file, name),
    onError: (error) => show({ text: `Not saved: ${reasonOf(error)}`, failed: true }),
  });
  return (
    <Button onClick={() => fetching.mutate()} disabled={fetching.isPending}>
      {children}
    </Button>
  );
}
