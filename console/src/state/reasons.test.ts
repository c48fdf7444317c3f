import { expect, test } from 'vitest';
import { Problem } from '../api/client';
import { reasonsOf } from './reasons';

test('each field gets its own reason', () => {
  const body = { title: '', status: 422, detail: 'two things are wrong' };
  const errors = [{ field: 'name', reason: 'it has a space' }];
  expect(reasonsOf(new Problem({ ...body, errors }))).toEqual({ name: 'it has a space' });
  expect(reasonsOf(new Problem(body))).toEqual({ form: 'two things are wrong' });
  expect(reasonsOf(new Error('away'))).toEqual({ form: 'away' });
});
