import { useEffect, useState } from 'react';
import { readOutput } from '../api/queries';
import type { OutputLine } from '../api/types';

/** Lines of output that are kept on the page. */
const MOST_LINES = 2000;
/** How long to wait before output is asked for again that could not be read. */
const AGAIN_MS = 2000;

/** What an app prints, as it does. */
export function useOutput(name: string): readonly OutputLine[] {
  const [lines, setLines] = useState<readonly OutputLine[]>([]);
  useEffect(() => {
    const end = new AbortController();
    const follow = async () => {
      let after: number | undefined;
      while (!end.signal.aborted) {
        try {
          const { lines: more, last } = await readOutput(name, after, MOST_LINES, end.signal);
          if (after === undefined) setLines(more);
          else if (more.length > 0) setLines((known) => [...known, ...more].slice(-MOST_LINES));
          after = last;
        } catch {
          await new Promise((resume) => setTimeout(resume, AGAIN_MS));
        }
      }
    };
    void follow();
    return () => end.abort();
  }, [name]);
  return lines;
}
