import { useState } from 'react';
import { Button } from './Button';

/** A command to copy. */
export function CopyLine({ text }: { text: string }) {
  const [copied, setCopied] = useState(false);
  const copy = async () => {
    await navigator.clipboard.writeText(text);
    setCopied(true);
  };
  return (
    <div className="mt-2 flex items-center gap-2">
      <code className="min-w-0 flex-1 overflow-x-auto rounded border border-rule bg-paper px-2.5 py-1.5 font-mono text-[13.5px] whitespace-nowrap">
        {text}
      </code>
      <Button onClick={() => void copy()} aria-label={`Copy ${text}`}>
        {copied ? 'Copied' : 'Copy'}
      </Button>
    </div>
  );
}
