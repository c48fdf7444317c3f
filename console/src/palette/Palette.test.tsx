// @vitest-environment jsdom
import { screen } from '@testing-library/react';
import { expect, test, vi } from 'vitest';
import { show } from '../test/page';
import { Palette } from './Palette';

test('what is found runs by Enter, and by a click', async () => {
  const [names, traffic, onClose] = [vi.fn(), vi.fn(), vi.fn()];
  const items = [
    { title: 'Names', kind: 'page', run: names },
    { title: 'Traffic', kind: 'page', run: traffic },
  ];
  const { user } = show(<Palette open onClose={onClose} items={items} />);
  const field = screen.getByRole('combobox');
  await user.type(field, '{ArrowDown}{Enter}');
  expect(traffic).toHaveBeenCalledOnce();
  await user.clear(field);
  await user.type(field, 'nam');
  const options = screen.getAllByRole('option');
  expect(options.map((option) => option.getAttribute('aria-selected'))).toEqual(['true']);
  expect(field.getAttribute('aria-activedescendant')).toBe(options[0]?.id);
  await user.click(screen.getByRole('option', { name: /Names/ }));
  expect(names).toHaveBeenCalledOnce();
  expect(onClose).toHaveBeenCalledTimes(2);
  await user.type(field, 'zzz');
  screen.getByText('Nothing has these letters.');
});
