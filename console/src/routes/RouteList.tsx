import { useWindowVirtualizer } from '@tanstack/react-virtual';
import type { KeyboardEvent } from 'react';
import { useRef, useState, useLayoutEffect } from 'react';
import type { StateChange } from '../api/types';
import { RouteRow, COLUMNS } from './RouteRow';
import type { Line } from './listing';

/** The height of a line that was not measured yet. */
const ROW_PX = 30;
/** Lines that are drawn beyond what is in view. */
const BEYOND = 5;

interface RouteListProps {
  lines: readonly Line[];
  states: ReadonlyMap<string, readonly StateChange[]>;
  now: number;
  reached: boolean;
  open: ReadonlySet<string>;
  onToggle: (address: string) => void;
}

/** The routes, of which only those in view are drawn. */
export function RouteList({ lines, states, now, reached, open, onToggle }: RouteListProps) {
  const list = useRef<HTMLDivElement>(null);
  const [top, setTop] = useState(0);
  useLayoutEffect(() => {
    setTop(list.current?.offsetTop ?? 0);
  }, []);
  const virtual = useWindowVirtualizer({
    count: lines.length,
    estimateSize: () => ROW_PX,
    overscan: BEYOND,
    scrollMargin: top,
    getItemKey: (at) => {
      const line = lines[at];
      return line?.type === 'route' ? line.route.address : `# ${line?.title ?? at}`;
    },
  });
  const count = lines.filter(({ type }) => type === 'route').length;
  // The arrows go from row to row, also to those that are not drawn yet.
  const onKeyDown = (event: KeyboardEvent) => {
    const step = { ArrowDown: 1, ArrowUp: -1 }[event.key];
    const row = (event.target as HTMLElement).closest('[data-row]');
    if (step === undefined || row === null || event.target !== row) return;
    event.preventDefault();
    const from = Number(row.closest('[data-index]')?.getAttribute('data-index'));
    let to = from + step;
    while (lines[to]?.type === 'group') to += step;
    if (lines[to] === undefined) return;
    virtual.scrollToIndex(to, { align: 'auto' });
    requestAnimationFrame(() => {
      list.current?.querySelector<HTMLElement>(`[data-index='${to}'] [data-row]`)?.focus();
    });
  };
  return (
    <>
      <div
        className={`${COLUMNS} px-1 pb-0.5 text-[13px] text-muted max-md:hidden`}
        aria-hidden="true"
      >
        <span />
        <span>Lane</span>
        <span>Route</span>
        <span>Target</span>
        <span>State</span>
        <span className="text-right">Answer</span>
        <span>Last day</span>
        <span />
      </div>
      {/* eslint-disable-next-line jsx-a11y/no-noninteractive-element-interactions -- rows bubble their arrows */}
      <div
        ref={list}
        role="list"
        aria-label="Routes"
        className="relative"
        style={{ height: virtual.getTotalSize() }}
        onKeyDown={onKeyDown}
      >
        {virtual.getVirtualItems().map((item) => {
          const line = lines[item.index];
          if (line === undefined) return null;
          return (
            <div
              key={item.key}
              ref={virtual.measureElement}
              data-index={item.index}
              role="listitem"
              {...(line.type === 'route'
                ? { 'aria-setsize': count, 'aria-posinset': line.place }
                : {})}
              className="absolute top-0 left-0 w-full"
              style={{ transform: `translateY(${item.start - virtual.options.scrollMargin}px)` }}
            >
              {line.type === 'group' ? (
                <GroupTitle line={line} />
              ) : (
                <RouteRow
                  route={line.route}
                  changes={states.get(line.route.address) ?? []}
                  now={now}
                  reached={reached}
                  isOpen={open.has(line.route.address)}
                  onToggle={() => onToggle(line.route.address)}
                />
              )}
            </div>
          );
        })}
      </div>
    </>
  );
}

function GroupTitle({ line }: { line: Extract<Line, { type: 'group' }> }) {
  return (
    <h2 className="flex h-[30px] items-end gap-3 px-1 pb-1 font-mono text-[13px]">
      <span className="truncate">{line.title}</span>
      <span className="font-sans text-muted">{line.count}</span>
      {line.broken > 0 && (
        <span className="font-sans whitespace-nowrap text-vermilion">{line.broken} broken</span>
      )}
    </h2>
  );
}
