/** How something is, by shape and colour; the word beside it says the same. */
export type Tone = 'good' | 'ready' | 'bad' | 'waiting' | 'idle' | 'paused' | 'uncertain';

interface StateMarkProps {
  tone: Tone;
  word: string;
  className?: string;
}

const TEXT: Record<Tone, string> = {
  good: 'text-teal',
  ready: 'text-teal',
  bad: 'text-vermilion',
  waiting: 'text-ochre',
  uncertain: 'text-ochre',
  idle: 'text-muted',
  paused: 'text-muted',
};

/** A state in a shape of its own and in a word. */
export function StateMark({ tone, word, className = '' }: StateMarkProps) {
  return (
    <span
      className={`inline-flex max-w-full min-w-0 items-center gap-1.5 align-middle ${TEXT[tone]} ${className}`}
    >
      <svg viewBox="0 0 12 12" className="size-3 shrink-0" aria-hidden="true">
        <Shape tone={tone} />
      </svg>
      <span className="truncate">{word}</span>
    </span>
  );
}

function Shape({ tone }: { tone: Tone }) {
  const line = {
    fill: 'none',
    stroke: 'currentColor',
    strokeWidth: 2,
    strokeLinecap: 'round',
  } as const;
  switch (tone) {
    case 'good':
      return <circle cx="6" cy="6" r="5" fill="currentColor" />;
    case 'ready':
      return (
        <>
          <circle cx="6" cy="6" r="4.5" {...line} strokeWidth={1.5} />
          <circle cx="6" cy="6" r="2" fill="currentColor" />
        </>
      );
    case 'bad':
      return <path d="M2.5 2.5l7 7m0-7l-7 7" {...line} />;
    case 'waiting':
      return (
        <>
          <circle cx="6" cy="6" r="4.5" {...line} strokeWidth={1.5} />
          <path d="M6 1.5a4.5 4.5 0 0 1 0 9z" fill="currentColor" />
        </>
      );
    case 'uncertain':
      return <path d="M1.5 8l2.5-4 2.5 4 2.5-4 1.5 2.4" {...line} strokeWidth={1.8} />;
    case 'paused':
      return <path d="M3.5 2v8M8.5 2v8" {...line} />;
    case 'idle':
      return <circle cx="6" cy="6" r="4.5" {...line} strokeWidth={1.5} />;
  }
}
