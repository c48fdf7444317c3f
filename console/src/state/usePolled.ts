import { useEffect, useState } from 'react';

/** What `read` gives, read again and again while the page is looked at. The connection's own notice says
 * when the service is away; what is shown stays. `read` has to be the same function each time. */
export function usePolled<T>(read: () => Promise<readonly T[]>, everyMs: number): readonly T[] {
  const [found, setFound] = useState<readonly T[]>([]);
  useEffect(() => {
    let current = true;
    const look = () => {
      if (document.hidden) return;
      read().then(
        (news) => current && setFound(news),
        () => undefined,
      );
    };
    look();
    const timer = setInterval(look, everyMs);
    return () => {
      current = false;
      clearInterval(timer);
    };
  }, [read, everyMs]);
  return found;
}
