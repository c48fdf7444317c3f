import { useEffect, useRef } from 'react';
import { clock, exactly } from '../format';
import { FilterField } from '../shared/Field';
import type { Place } from '../state/place';
import { setParams } from '../state/usePlace';
import { pieces, plain } from './ansi';
import { useOutput } from './useOutput';

/** From the end, how far one may have scrolled and still follow what comes, in pixels. */
const AT_END = 40;

interface OutputProps {
  /** The app. */
  name: string;
  params: Place['params'];
}

/** What an app prints, live, with its colours; only lines with a text, when one is wanted. */
export function Output({ name, params }: OutputProps) {
  const lines = useOutput(name);
  const box = useRef<HTMLDivElement>(null);
  const follows = useRef(true);
  const wanted = (params.text ?? '').trim().toLowerCase();
  const shown = lines.filter((line) => plain(line.text).toLowerCase().includes(wanted));
  useEffect(() => {
    const element = box.current;
    if (element !== null && follows.current) element.scrollTop = element.scrollHeight;
  }, [shown.length]);
  return (
    <div>
      <FilterField
        label={`Show lines of ${name} with this text`}
        placeholder="part of a line"
        className="w-72"
        value={params.text ?? ''}
        onText={(text) => setParams({ text })}
      />
      <div
        ref={box}
        role="log"
        aria-label={`Output of ${name}`}
        // eslint-disable-next-line jsx-a11y/no-noninteractive-tabindex -- what scrolls is reached by keyboard
        tabIndex={0}
        className="mt-2 h-[44vh] overflow-auto rounded-md border border-rule bg-card px-3 py-2 font-mono text-[13px] leading-[1.55]"
        onScroll={({ currentTarget: { scrollTop, scrollHeight, clientHeight } }) => {
          follows.current = scrollHeight - scrollTop - clientHeight < AT_END;
        }}
      >
        {shown.length === 0 && (
          <p className="text-muted">
            {lines.length === 0 ? 'It has printed nothing yet.' : 'No line has this text.'}
          </p>
        )}
        {shown.map((line) => (
          <div key={line.number} className="flex gap-3">
            <time dateTime={line.at} title={exactly(line.at)} className="shrink-0 text-muted">
              {clock(line.at)}
            </time>
            {line.stream !== 'terminal' && line.stream !== 'stdout' && (
              <span className="shrink-0 text-muted">
                {line.stream === 'bentlane' ? '—' : line.stream}
              </span>
            )}
            <span
              className={`min-w-0 break-words whitespace-pre-wrap ${line.stream === 'bentlane' ? 'text-muted' : ''}`}
            >
              {pieces(line.text).map((piece, place) => (
                <span
                  key={place}
                  data-colour={piece.colour}
                  className={piece.bold ? 'font-bold' : undefined}
                >
                  {piece.text}
                </span>
              ))}
            </span>
          </div>
        ))}
      </div>
    </div>
  );
}
