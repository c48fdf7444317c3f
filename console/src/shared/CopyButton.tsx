import { useEffect, useState } from 'react';
import { Button } from './Button';

/** How long the button says that it copied. */
const SAID_MS = 2000;

/** Copies `text`; `what` names it for those who do not see what is beside the button. */
export function CopyButton({ text, what = text }: { text: string; what?: string }) {
  const [outcome, setOutcome] = useState<'copied' | 'failed'>();
  useEffect(() => {
    if (outcome === undefined) return;
    const timer = setTimeout(() => setOutcome(undefined), SAID_MS);
    return () => clearTimeout(timer);
  }, [outcome]);
  const copy = async () => {
    try {
      await navigator.clipboard.writeText(text);
      setOutcome('copied');
    } catch {
      // A page without HTTPS, or a browser that was told not to.
      setOutcome('failed');
    }
  };
  return (
    <Button onClick={() => void copy()} aria-label={`Copy ${what}`}>
      <span aria-live="polite">
        {outcome === undefined ? 'Copy' : outcome === 'copied' ? 'Copied' : 'Not allowed'}
      </span>
    </Button>
  );
}
