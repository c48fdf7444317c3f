import * as Toast from '@radix-ui/react-toast';
import type { ReactNode } from 'react';
import { useCallback, useMemo, useState } from 'react';
import { Button, IconButton } from './Button';
import { Icon } from './Icon';
import type { Message } from './useToasts';
import { ToastContext } from './useToasts';

/** How long a message stays; one that is pointed at, or has the focus, stays longer. */
const STAYS_MS = 10_000;
/** Messages that are shown at the same time. */
const MOST = 3;

/** Shows what was done, with the way back, in a corner of the page. F8 leads there. */
export function Toasts({ children }: { children: ReactNode }) {
  const [messages, setMessages] = useState<readonly (Message & { id: number })[]>([]);
  const show = useCallback((message: Message) => {
    setMessages((shown) => {
      const id = (shown.at(-1)?.id ?? 0) + 1;
      return [...shown, { ...message, id }].slice(-MOST);
    });
  }, []);
  const close = (id: number) => setMessages((shown) => shown.filter((it) => it.id !== id));
  const toasts = useMemo(() => ({ show }), [show]);
  return (
    <ToastContext value={toasts}>
      <Toast.Provider duration={STAYS_MS} label="Message">
        {children}
        {messages.map(({ id, text, failed = false, action }) => (
          <Toast.Root
            key={id}
            type={failed ? 'foreground' : 'background'}
            onOpenChange={(open) => !open && close(id)}
            className={`flex items-center gap-3 rounded-md border border-l-4 border-rule bg-card px-3 py-2 text-[14px] shadow-lg ${failed ? 'border-l-vermilion' : 'border-l-teal'}`}
          >
            <Toast.Description className="min-w-0 flex-1 break-words">{text}</Toast.Description>
            {action !== undefined && (
              <Toast.Action altText={action.alternative} asChild>
                <Button onClick={action.run}>{action.title}</Button>
              </Toast.Action>
            )}
            <Toast.Close asChild>
              <IconButton label="Close the message">
                <Icon name="close" />
              </IconButton>
            </Toast.Close>
          </Toast.Root>
        ))}
        <Toast.Viewport className="fixed right-4 bottom-4 z-50 grid w-[min(30rem,calc(100vw-2rem))] gap-2" />
      </Toast.Provider>
    </ToastContext>
  );
}
