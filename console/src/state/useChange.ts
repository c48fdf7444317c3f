import { useMutation, useQueryClient } from '@tanstack/react-query';
import type { ChangeKey } from '../api/changes';
import { newKey, undoKey } from '../api/changes';
import { CONFIGURATION } from '../api/queries';
import { sentence } from '../format';
import { useToasts } from '../shared/useToasts';
import { reasonsOf } from './reasons';

/** A change to be made. */
export interface Change {
  /** What to say once it is made, such as "Removed tiles.moor.test". */
  done: string;
  make: (key: ChangeKey) => Promise<unknown>;
  /** Whether the journal has no way back from it. */
  isFinal?: boolean;
}

/** The same for a form, which says itself why a change failed: `reasons`, by field. */
export function useFormChange() {
  const change = useChange('form');
  return { ...change, reasons: change.error === null ? {} : reasonsOf(change.error) };
}

/** Makes changes; a message says that each is made, and undoes it. What fails is said by a message, too,
 * unless a form says it. */
export function useChange(failureSaidBy: 'message' | 'form' = 'message') {
  const client = useQueryClient();
  const { show } = useToasts();
  const refresh = () => client.invalidateQueries({ queryKey: CONFIGURATION });
  const undo = async (key: ChangeKey, done: string) => {
    try {
      await undoKey(key);
      show({ text: `Undone: ${done}` });
    } catch (error) {
      show({ text: `Not undone: ${reasonOf(error)}`, failed: true });
    }
    await refresh();
  };
  return useMutation({
    mutationFn: async ({ make }: Change) => {
      const key = newKey();
      await make(key);
      return key;
    },
    onSuccess: (key, { done, isFinal = false }) => {
      const action = {
        title: 'Undo',
        alternative: 'The journal undoes it, too',
        run: () => void undo(key, done),
      };
      show({ text: done, action: isFinal ? undefined : action });
      void refresh();
    },
    onError: (error) => {
      if (failureSaidBy === 'message') show({ text: reasonOf(error), failed: true });
    },
  });
}

/** Why something failed, as a sentence. */
export function reasonOf(error: unknown): string {
  return sentence(error instanceof Error ? error.message : String(error));
}
