import { TextArea, TextField } from '../shared/Field';
import { Choice } from '../shared/Choice';
import { Prose } from '../shared/Prose';
import type { Setting } from './settings';
import { nameOf, titleOf } from './settings';

interface SettingFieldProps {
  setting: Setting;
  text: string;
  reason?: string;
  onText: (text: string) => void;
}

/** The field of one setting, after its kind. Empty is the default. */
export function SettingField({ setting, text, reason, onText }: SettingFieldProps) {
  const name = nameOf(setting);
  const hint = (
    <>
      <Prose text={setting.help} />
      {setting.kind === 'list' && '. One entry on each line'}
    </>
  );
  const parts = { label: titleOf(setting), hint, reason, name, value: text, onText };
  switch (setting.kind) {
    case 'switch':
      return (
        <div data-setting={name}>
          <p className="text-[14px] font-medium">{titleOf(setting)}</p>
          <Choice
            label={titleOf(setting)}
            value={text}
            options={[
              ['', `default (${setting.default})`],
              ['true', 'on'],
              ['false', 'off'],
            ]}
            onChoose={onText}
          />
          <p
            className={`mt-0.5 text-[13px] ${reason === undefined ? 'text-muted' : 'text-vermilion'}`}
          >
            {reason ?? hint}
          </p>
        </div>
      );
    case 'list':
      return <TextArea {...parts} rows={2} placeholder={setting.default} />;
    default:
      return <TextField {...parts} placeholder={setting.default} />;
  }
}
