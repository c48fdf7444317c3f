import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { endSession, endSessions } from '../api/changes';
import { sessionsQuery } from '../api/queries';
import { forget } from '../api/session';
import { browserName } from '../format';
import { Button } from '../shared/Button';
import { Moment } from '../shared/Moment';
import { Fault } from '../shared/Notice';
import { Section } from '../shared/Section';
import { CELL, Table } from '../shared/Table';
import { reasonOf } from '../state/useChange';

/** The browsers that are signed in, each to be signed out. */
export function SessionsTab({ onSignedOut }: { onSignedOut: () => void }) {
  const client = useQueryClient();
  const sessions = useQuery(sessionsQuery());
  const ending = useMutation({
    mutationFn: ({ end }: { end: () => Promise<unknown>; own: boolean }) => end(),
    onSuccess: async (_, { own }) => {
      if (own) {
        forget();
        onSignedOut();
      } else {
        await client.invalidateQueries({ queryKey: sessionsQuery().queryKey });
      }
    },
  });
  const fault = ending.error ?? sessions.error;
  const end = (end: () => Promise<unknown>, own: boolean) => ending.mutate({ end, own });
  return (
    <Section
      id="sessions"
      title="Browsers that are signed in"
      beside={<Button onClick={() => end(endSessions, true)}>Sign out everywhere</Button>}
    >
      {fault !== null && <Fault>{reasonOf(fault)}</Fault>}
      <Table titles={['Browser', 'User', 'Signed in', 'Last used', '']} label="Sessions">
        {(sessions.data ?? []).map((session) => (
          <tr key={session.id} data-session={session.id}>
            <td className={CELL} title={session.browser}>
              {browserName(session.browser)}
              {session.own && <span className="text-muted"> · this one</span>}
            </td>
            <td className={CELL}>{session.user}</td>
            <td className={CELL}>
              <Moment at={session.since} />
            </td>
            <td className={CELL}>
              <Moment at={session.used} />
            </td>
            <td className={CELL}>
              <Button onClick={() => end(() => endSession(session.id), session.own)}>
                Sign out
              </Button>
            </td>
          </tr>
        ))}
      </Table>
      <p className="mt-3 max-w-[80ch] text-[14px] text-muted">
        A browser is signed out after 12 hours without a call, and when the service stops.{' '}
        <code className="font-mono">bentlane console --sign-out</code> signs out all of them.
      </p>
    </Section>
  );
}
