// @vitest-environment jsdom
import { screen, within } from '@testing-library/react';
import { expect, test, vi } from 'vitest';
import type { Finding } from '../api/types';
import { show } from '../test/page';
import { useChange } from '../state/useChange';
import { Button } from './Button';
import { CopyButton } from './CopyButton';
import { FilterField, TextField } from './Field';
import { FindingCard } from './FindingCard';
import { Moment } from './Moment';
import { Prose } from './Prose';
import { StateMark } from './StateMark';
import { Table } from './Table';
import { Tabs } from './Tabs';

test('a copy button says whether it copied', async () => {
  const { user } = show(<CopyButton text="bentlane check" />);
  const button = screen.getByRole('button', { name: 'Copy bentlane check' });
  await user.click(button);
  expect(button.textContent).toBe('Copied');
  expect(await navigator.clipboard.readText()).toBe('bentlane check');
  vi.spyOn(navigator.clipboard, 'writeText').mockRejectedValue(new Error('no'));
  await user.click(button);
  expect(button.textContent).toBe('Not allowed');
});

test('a field is described by its hint, or by what is wrong', () => {
  show(
    <>
      <TextField label="Name" hint="a name" value="" onText={() => undefined} />
      <TextField label="Target" hint="a port" reason="no port" value="x" onText={() => undefined} />
    </>,
  );
  const [name, target] = [screen.getByLabelText('Name'), screen.getByLabelText('Target')];
  const noteOf = (field: HTMLElement) =>
    document.getElementById(field.getAttribute('aria-describedby') ?? '')?.textContent;
  expect([noteOf(name), name.getAttribute('aria-invalid')]).toEqual(['a name', 'false']);
  expect([noteOf(target), target.getAttribute('aria-invalid')]).toEqual(['no port', 'true']);
  expect(screen.getByRole('alert').textContent).toBe('no port');
});

test('a filter gives what is typed', async () => {
  const onText = vi.fn();
  const { user } = show(<FilterField label="Show routes" value="" onText={onText} />);
  await user.type(screen.getByRole('searchbox', { name: 'Show routes' }), 'a');
  expect(onText).toHaveBeenCalledWith('a');
});

test('a table names its columns, those of buttons too', () => {
  show(
    <Table titles={['Route', '']} label="Routes">
      <tr>
        <td>a.moor.test</td>
        <td />
      </tr>
    </Table>,
  );
  const table = within(screen.getByRole('group', { name: 'Routes' })).getByRole('table');
  const titles = within(table).getAllByRole('columnheader');
  expect(titles.map((title) => title.textContent)).toEqual(['Route', 'Actions']);
});

test('a state has a word beside its mark', () => {
  const tones = ['good', 'ready', 'bad', 'waiting', 'idle', 'paused', 'uncertain'] as const;
  show(tones.map((tone) => <StateMark key={tone} tone={tone} word={`is ${tone}`} />));
  const shapes = tones.map((tone) => {
    const word = screen.getByText(`is ${tone}`);
    return word.parentElement?.querySelector('svg')?.innerHTML;
  });
  expect(new Set(shapes).size).toBe(tones.length);
});

test('tabs are chosen by pointer and by arrows', async () => {
  const onChoose = vi.fn();
  const tabs = [
    ['one', 'One'],
    ['two', 'Two'],
  ] as const;
  const { user } = show(
    <Tabs label="Parts" tabs={tabs} current="one" onChoose={onChoose}>
      content
    </Tabs>,
  );
  await user.click(screen.getByRole('tab', { name: 'Two' }));
  expect(onChoose).toHaveBeenLastCalledWith('two');
  onChoose.mockClear();
  screen.getByRole('tab', { name: 'One' }).focus();
  await user.keyboard('{ArrowRight}');
  expect(onChoose).toHaveBeenLastCalledWith('two');
});

test('a moment is exact while one points at it, and code is set as such', () => {
  show(
    <>
      <Moment at="2026-05-04T12:00:00Z" />
      <Prose text="run `bentlane check`" />
    </>,
  );
  const moment = document.querySelector('time');
  expect(moment?.getAttribute('datetime')).toBe('2026-05-04T12:00:00Z');
  expect(moment?.title).toMatch(/2026.*\d\d:00:00/);
  expect(document.querySelector('code')?.textContent).toBe('bentlane check');
});

function Remove() {
  const change = useChange();
  const make = (key: string) => fetch(`/api/v1/thing?key=${key}`, { method: 'DELETE' });
  return <Button onClick={() => change.mutate({ done: 'Removed it', make })}>Remove</Button>;
}

test('what was done is undone by the key that it was done with', async () => {
  const { calls, user } = show(<Remove />);
  await user.click(screen.getByRole('button', { name: 'Remove' }));
  await user.click(await screen.findByRole('button', { name: 'Undo' }));
  await screen.findByText('Undone: Removed it');
  const key = calls[0]?.path.split('key=')[1];
  expect(calls[1]).toEqual({ method: 'POST', path: '/undo', body: { key } });
});

test('what cannot be undone says why', async () => {
  const { user } = show(<Remove />, ({ path }) => (path === '/undo' ? 409 : {}));
  await user.click(screen.getByRole('button', { name: 'Remove' }));
  await user.click(await screen.findByRole('button', { name: 'Undo' }));
  await screen.findByText('Not undone: It is not possible.');
});

const FINDING: Finding = {
  slug: 'target-speaks-tls',
  hop: 'connect',
  severity: 'error',
  summary: 'port 4315 expects TLS',
  evidence: ['it accepts TLS'],
  fix: {
    text: 'use https:// for the target',
    command: 'bentlane route edit a.test --to https://127.0.0.1:4315',
    action: { type: 'edit-route', address: 'a.test', patch: { to: 'https://127.0.0.1:4315' } },
  },
};

test('a finding is fixed by its button, or by its command', async () => {
  const route = { address: 'a.test', to: '4315', settings: {} };
  const { calls, user } = show(<FindingCard finding={FINDING} />, () => route);
  screen.getByText('bentlane route edit a.test --to https://127.0.0.1:4315');
  await user.click(screen.getByRole('button', { name: 'Fix it' }));
  await screen.findByText('Fixed: port 4315 expects TLS');
  expect(calls.map(({ method, path }) => `${method} ${path}`)).toEqual([
    'GET /routes/a.test',
    'PATCH /routes/a.test',
  ]);
  expect(calls[1]?.body).toEqual({ to: 'https://127.0.0.1:4315' });
});

test('what takes root has no button', () => {
  const fix = { ...FINDING.fix, action: { type: 'system-attach' } as const };
  show(<FindingCard finding={{ ...FINDING, fix }} />);
  expect(screen.queryByRole('button', { name: 'Fix it' })).toBeNull();
});
