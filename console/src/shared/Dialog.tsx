import * as Radix from '@radix-ui/react-dialog';
import type { ReactNode } from 'react';
import { IconButton } from './Button';
import { Icon } from './Icon';

interface DialogProps {
  title: string;
  about?: ReactNode;
  open: boolean;
  onClose: () => void;
  /** Whether it needs room for much. */
  wide?: boolean;
  children: ReactNode;
}

/** Something to be done before one goes on. */
export function Dialog({ title, about, open, onClose, wide = false, children }: DialogProps) {
  return (
    <Radix.Root open={open} onOpenChange={(next) => !next && onClose()}>
      <Radix.Portal>
        <Radix.Overlay className="fixed inset-0 z-20 bg-black/40" />
        <Radix.Content
          {...(about === undefined ? { 'aria-describedby': undefined } : {})}
          className={`fixed top-[6vh] left-1/2 z-30 max-h-[88vh] ${wide ? 'w-[min(52rem,calc(100vw-1.5rem))]' : 'w-[min(34rem,calc(100vw-1.5rem))]'} -translate-x-1/2 overflow-y-auto rounded-lg border border-rule bg-paper p-5 shadow-xl`}
        >
          <Radix.Title className="pr-10 text-[18px] font-semibold break-all">{title}</Radix.Title>
          {about !== undefined && (
            <Radix.Description className="mt-0.5 text-[14px] text-muted">{about}</Radix.Description>
          )}
          {children}
          {/* The last, so that the first field has the focus when the dialog opens. */}
          <Radix.Close asChild>
            <IconButton label="Close" className="absolute top-4 right-4">
              <Icon name="close" />
            </IconButton>
          </Radix.Close>
        </Radix.Content>
      </Radix.Portal>
    </Radix.Root>
  );
}
