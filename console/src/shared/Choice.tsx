import * as Select from '@radix-ui/react-select';
import { nonce } from '../nonce';
import { Icon } from './Icon';

interface ChoiceProps<T extends string> {
  label: string;
  value: T;
  options: readonly (readonly [T, string])[];
  onChoose: (value: T) => void;
  /** Whether the label is seen as well. */
  labelled?: boolean;
}

/** One of several values. */
export function Choice<T extends string>({
  label,
  value,
  options,
  onChoose,
  labelled = false,
}: ChoiceProps<T>) {
  const shown = options.find(([option]) => option === value)?.[1] ?? value;
  return (
    <Select.Root value={`=${value}`} onValueChange={(chosen) => onChoose(chosen.slice(1) as T)}>
      <Select.Trigger
        aria-label={`${label}: ${shown}`}
        className="inline-flex max-w-[22rem] cursor-pointer items-center gap-1.5 rounded-md border border-muted bg-card px-2.5 py-1 text-[14px] hover:border-amber"
      >
        {labelled && <span className="text-muted">{label}</span>}
        <span className="truncate">
          <Select.Value>{shown}</Select.Value>
        </span>
        <Icon name="unfolded" />
      </Select.Trigger>
      <Select.Portal>
        <Select.Content
          position="popper"
          sideOffset={4}
          className="z-40 max-h-[60vh] max-w-[90vw] overflow-hidden rounded-md border border-rule bg-card text-[14px] shadow-lg"
        >
          <Select.Viewport nonce={nonce} className="p-1">
            {options.map(([option, title]) => (
              <Select.Item
                key={option}
                // Radix keeps the empty value for itself.
                value={`=${option}`}
                className="cursor-pointer rounded px-2.5 py-1 outline-none data-[highlighted]:bg-ink data-[highlighted]:text-paper data-[state=checked]:font-semibold"
              >
                <Select.ItemText>{title}</Select.ItemText>
              </Select.Item>
            ))}
          </Select.Viewport>
        </Select.Content>
      </Select.Portal>
    </Select.Root>
  );
}
