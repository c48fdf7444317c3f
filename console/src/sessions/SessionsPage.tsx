import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { Button } from '../Button';
import { CELL, Section, Table } from '../Section';
import { endSession, endSessions, listSessions } from '../api/client';
import { forget } from '../api/session';
import { browserName, dayAndClock, sentence } from '../format';

/** The browsers that are signed in, each to be signed out. */
export function SessionsPage({ onSignedOut }: { onSignedOut: () => void }) {
  const client = useQueryClient();
  const sessions = useQuery({
    queryKey: ['sessions'],
    queryFn: ({ signal }) => listSessions(signal),
  });
  const ending = useMutation({
    mutationFn: ({ end }: { end: () => Promise<unknown>; own: boolean }) => end(),
    onSuccess: async (_, { own }) => {
      if (own) {
        forget();
        onSignedOut();
      } else {
        await client.invalidateQueries({ queryKey: ['sessions'] });
      }
    },
  });
  const fault = ending.error ?? sessions.error;
  const end = (end: () => Promise<unknown>, own: boolean) => ending.mutate({ end, own });

  return (
    <div className="grid gap-4 py-6">
      <Section
        id="sessions"
        title="Browsers that are signed in"
        beside={<Button onClick={() => end(endSessions, true)}>Sign out everywhere</Button>}
      >
        {fault !== null && (
          <p role="alert" className="mt-3 text-vermilion">
            {sentence(fault.message)}
          </p>
        )}
        <Table titles={['Browser', 'User', 'Signed in', 'Last used', '']}>
          {(sessions.data ?? []).map((session) => (
            <tr key={session.id} data-session={session.id}>
              <td className={CELL} title={session.browser}>
                {browserName(session.browser)}
                {session.own && <span className="text-muted"> · this one</span>}
              </td>
              <td className={CELL}>{session.user}</td>
              <td className={CELL}>{dayAndClock(session.since)}</td>
              <td className={CELL}>{dayAndClock(session.used)}</td>
              <td className={CELL}>
                <Button onClick={() => end(() => endSession(session.id), session.own)}>
                  Sign out
                </Button>
              </td>
            </tr>
          ))}
        </Table>
        <p className="mt-3 max-w-[72ch] text-muted">
          A browser is signed out after 12 hours without a call, and when the service ends.{' '}
          <code className="font-mono">bentlane console --sign-out</code> signs out all of them.
        </p>
      </Section>
    </div>
  );
}
