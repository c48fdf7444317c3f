import * as Tooltip from '@radix-ui/react-tooltip';
import type { ReactNode } from 'react';

/** What is said of `children`, which can have the focus, while one points at it. */
export function Tip({ text, children }: { text: ReactNode; children: ReactNode }) {
  return (
    <Tooltip.Root>
      <Tooltip.Trigger asChild>{children}</Tooltip.Trigger>
      <Tooltip.Portal>
        <Tooltip.Content
          sideOffset={4}
          collisionPadding={8}
          className="z-50 max-w-[44ch] rounded-md bg-ink px-2.5 py-1 text-[13px] text-paper shadow-lg"
        >
          {text}
        </Tooltip.Content>
      </Tooltip.Portal>
    </Tooltip.Root>
  );
}
