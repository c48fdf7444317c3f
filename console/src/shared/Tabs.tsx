import * as Radix from '@radix-ui/react-tabs';
import type { ReactNode } from 'react';

interface TabsProps<T extends string> {
  /** What the tabs are of. */
  label: string;
  tabs: readonly (readonly [T, string])[];
  current: T;
  onChoose: (tab: T) => void;
  /** The content of the current tab. */
  children: ReactNode;
}

/** Parts of a page, of which one is in view; the page's address says which. */
export function Tabs<T extends string>({ label, tabs, current, onChoose, children }: TabsProps<T>) {
  return (
    <Radix.Root value={current} onValueChange={(tab) => onChoose(tab as T)}>
      <Radix.List aria-label={label} className="flex gap-1 overflow-x-auto border-b border-rule">
        {tabs.map(([tab, title]) => (
          <Radix.Trigger
            key={tab}
            value={tab}
            className="-mb-px cursor-pointer border-b-2 border-transparent px-2.5 py-1.5 text-[14px] font-medium whitespace-nowrap text-muted hover:text-ink data-[state=active]:border-amber data-[state=active]:text-ink"
          >
            {title}
          </Radix.Trigger>
        ))}
      </Radix.List>
      <Radix.Content value={current} className="pt-4">
        {children}
      </Radix.Content>
    </Radix.Root>
  );
}
