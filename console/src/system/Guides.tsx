import { useQuery } from '@tanstack/react-query';
import { guideQuery } from '../api/queries';
import { Button } from '../shared/Button';
import { Choice } from '../shared/Choice';
import { CopyButton } from '../shared/CopyButton';
import { save } from '../shared/save';
import { setParams } from '../state/usePlace';

const SYSTEMS = [
  ['macos', 'macOS'],
  ['windows', 'Windows'],
  ['wsl', 'Windows, service in WSL'],
  ['phone', 'Phone or tablet'],
] as const;

/** How systems that the service does not run on find the names and trust the root. */
export function Guides({ system }: { system: string | undefined }) {
  const chosen = SYSTEMS.find(([known]) => known === system)?.[0] ?? 'macos';
  const { data } = useQuery(guideQuery(chosen));
  return (
    <div className="max-w-[100ch]">
      <Choice
        label="System"
        labelled
        value={chosen}
        options={SYSTEMS}
        onChoose={(next) => setParams({ for: next }, 'step')}
      />
      {data !== undefined && (
        <>
          <pre className="mt-3 font-sans text-[15px] whitespace-pre-wrap">{data.text.trim()}</pre>
          <div className="mt-4 flex items-center gap-2">
            <h2 className="font-semibold">{data.file_name}</h2>
            <Button onClick={() => save(new Blob([data.script]), data.file_name)}>Save</Button>
            <CopyButton text={data.script} what="the script" />
          </div>
          <pre
            // eslint-disable-next-line jsx-a11y/no-noninteractive-tabindex -- what scrolls is reached by keyboard
            tabIndex={0}
            aria-label="The script"
            role="region"
            className="mt-2 max-h-[60vh] overflow-auto rounded-md border border-rule bg-card p-3 font-mono text-[13px]"
          >
            {data.script}
          </pre>
        </>
      )}
    </div>
  );
}
