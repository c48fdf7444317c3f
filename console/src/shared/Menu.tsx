import * as Dropdown from '@radix-ui/react-dropdown-menu';
import type { ReactNode } from 'react';

const ITEM =
  'flex cursor-pointer items-center justify-between gap-6 rounded px-2.5 py-1 outline-none data-[highlighted]:bg-ink data-[highlighted]:text-paper data-[disabled]:cursor-default data-[disabled]:opacity-50';

/** A menu behind a button. */
export function Menu({ button, children }: { button: ReactNode; children: ReactNode }) {
  return (
    <Dropdown.Root modal={false}>
      <Dropdown.Trigger asChild>{button}</Dropdown.Trigger>
      <Dropdown.Portal>
        <Dropdown.Content
          align="end"
          sideOffset={4}
          className="z-40 min-w-40 rounded-md border border-rule bg-card p-1 text-[14px] shadow-lg"
        >
          {children}
        </Dropdown.Content>
      </Dropdown.Portal>
    </Dropdown.Root>
  );
}

interface MenuItemProps {
  onSelect: () => void;
  /** The key that does the same on the row. */
  shortcut?: string;
  disabled?: boolean;
  children: ReactNode;
}

export function MenuItem({ onSelect, shortcut, disabled, children }: MenuItemProps) {
  return (
    <Dropdown.Item className={ITEM} disabled={disabled} onSelect={onSelect}>
      {children}
      {shortcut !== undefined && <kbd className="font-mono text-[12px] opacity-70">{shortcut}</kbd>}
    </Dropdown.Item>
  );
}

/** A place to go to. */
export function MenuLink({
  href,
  away = false,
  children,
}: {
  href: string;
  away?: boolean;
  children: ReactNode;
}) {
  return (
    <Dropdown.Item className={ITEM} asChild>
      <a href={href} {...(away ? { target: '_blank', rel: 'noreferrer' } : {})}>
        {children}
      </a>
    </Dropdown.Item>
  );
}

/** One of several values, of which one is in force. */
export function MenuChoice<T extends string>({
  value,
  options,
  onChoose,
}: {
  value: T;
  options: readonly (readonly [T, string])[];
  onChoose: (value: T) => void;
}) {
  return (
    <Dropdown.RadioGroup value={value} onValueChange={(chosen) => onChoose(chosen as T)}>
      {options.map(([option, title]) => (
        <Dropdown.RadioItem key={option} value={option} className={ITEM}>
          {title}
          <Dropdown.ItemIndicator>●</Dropdown.ItemIndicator>
        </Dropdown.RadioItem>
      ))}
    </Dropdown.RadioGroup>
  );
}

export function MenuSeparator() {
  return <Dropdown.Separator className="my-1 border-t border-rule" />;
}
