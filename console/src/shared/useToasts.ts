import { createContext, use } from 'react';

/** Something to say in a corner of the page. */
export interface Message {
  text: string;
  /** Whether it is that something failed. */
  failed?: boolean;
  action?: {
    title: string;
    /** How to do the same for those who do not get to the message in time. */
    alternative: string;
    run: () => void;
  };
}

export const ToastContext = createContext<{ show: (message: Message) => void } | undefined>(
  undefined,
);

/** Shows messages. */
export function useToasts() {
  const toasts = use(ToastContext);
  if (toasts === undefined) throw new Error('put <Toasts> around what calls useToasts');
  return toasts;
}
