import * as Dialog from '@radix-ui/react-dialog';
import type { KeyboardEvent } from 'react';
import { useEffect, useId, useMemo, useRef, useState } from 'react';
import type { Item } from './match';
import { best } from './match';

/** Items that are shown at most. */
const MOST = 12;

interface PaletteProps {
  open: boolean;
  onClose: () => void;
  items: readonly Item[];
}

/** Goes to any route or page, or does something, by a few letters of its name. */
export function Palette({ open, onClose, items }: PaletteProps) {
  return (
    <Dialog.Root open={open} onOpenChange={(next) => !next && onClose()}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-40 bg-black/40" />
        <Dialog.Content
          aria-describedby={undefined}
          className="fixed top-[12vh] left-1/2 z-50 w-[min(40rem,calc(100vw-1.5rem))] -translate-x-1/2 overflow-hidden rounded-lg border border-rule bg-paper shadow-xl"
        >
          <Dialog.Title className="sr-only">Find a route, a page or an action</Dialog.Title>
          <Finder items={items} onClose={onClose} />
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}

function Finder({ items, onClose }: { items: readonly Item[]; onClose: () => void }) {
  const id = useId();
  const [text, setText] = useState('');
  const [at, setAt] = useState(0);
  const list = useRef<HTMLDivElement>(null);
  const found = useMemo(() => best(items, text, MOST), [items, text]);
  const chosen = Math.min(at, found.length - 1);
  useEffect(() => {
    list.current?.children[chosen]?.scrollIntoView({ block: 'nearest' });
  }, [chosen]);
  const run = (item: Item | undefined) => {
    if (item === undefined) return;
    onClose();
    item.run();
  };
  const onKeyDown = (event: KeyboardEvent) => {
    const last = found.length - 1;
    const next = {
      ArrowDown: chosen >= last ? 0 : chosen + 1,
      ArrowUp: chosen <= 0 ? last : chosen - 1,
      Home: 0,
      End: last,
    }[event.key];
    if (event.key === 'Enter') run(found[chosen]);
    else if (next !== undefined) setAt(next);
    else return;
    event.preventDefault();
  };
  return (
    <>
      <input
        role="combobox"
        aria-expanded="true"
        aria-controls={id}
        aria-activedescendant={found.length === 0 ? undefined : `${id}-${chosen}`}
        aria-label="Find a route, a page or an action"
        className="w-full border-b border-rule bg-paper px-4 py-3 text-[16px] outline-none"
        placeholder="Find a route, a page or an action"
        autoComplete="off"
        spellCheck={false}
        value={text}
        onChange={(event) => {
          setText(event.target.value);
          setAt(0);
        }}
        onKeyDown={onKeyDown}
      />
      <div
        ref={list}
        id={id}
        role="listbox"
        aria-label="Found"
        className="max-h-[50vh] overflow-y-auto p-1.5"
      >
        {found.map((item, place) => (
          // The keys are handled by the field, which keeps the focus.
          // eslint-disable-next-line jsx-a11y/click-events-have-key-events
          <div
            key={`${item.kind} ${item.title}`}
            id={`${id}-${place}`}
            role="option"
            tabIndex={-1}
            aria-selected={place === chosen}
            className="flex cursor-pointer justify-between gap-4 rounded px-2.5 py-1 aria-selected:bg-ink aria-selected:text-paper"
            onMouseMove={() => setAt(place)}
            onClick={() => run(item)}
          >
            <span className="truncate">{item.title}</span>
            <span className="text-[13px] opacity-75">{item.kind}</span>
          </div>
        ))}
      </div>
      {found.length === 0 && <p className="px-4 pb-4 text-muted">Nothing has these letters.</p>}
      <p className="border-t border-rule px-4 py-1.5 text-[13px] text-muted">
        <kbd>↑</kbd> <kbd>↓</kbd> and <kbd>Enter</kbd>. On a route’s row: <kbd>o</kbd> opens,{' '}
        <kbd>c</kbd> checks, <kbd>e</kbd> edits, <kbd>p</kbd> pauses, <kbd>u</kbd> copies the URL.{' '}
        <kbd>/</kbd> goes to the filter.
      </p>
    </>
  );
}
