import { CopyButton } from './CopyButton';

/** A command or a value, with a button that copies it. */
export function CopyLine({ text }: { text: string }) {
  return (
    <div className="mt-1.5 flex max-w-[90ch] items-center gap-2">
      <code className="min-w-0 flex-1 rounded border border-rule bg-paper px-2.5 py-1 font-mono text-[13px] wrap-anywhere">
        {text}
      </code>
      <CopyButton text={text} />
    </div>
  );
}
