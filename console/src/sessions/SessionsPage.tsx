import { useCallback, useEffect, useState } from 'react';
import { Button } from '../Button';
import { CELL, Section, Table } from '../Section';
import { endSession, endSessions, listSessions } from '../api/client';
import { forget } from '../api/session';
import type { Session } from '../api/types';
import { browserName, dayAndClock, sentence } from '../format';

/** The browsers that are signed in, each to be signed out. */
export function SessionsPage({ onSignedOut }: { onSignedOut: () => void }) {
  const [sessions, setSessions] = useState<readonly Session[]>([]);
  const [fault, setFault] = useState<string>();

  const read = useCallback(async () => {
    try {
      setSessions(await listSessions());
      setFault(undefined);
    } catch (error) {
      setFault(error instanceof Error ? error.message : String(error));
    }
  }, []);
  useEffect(() => {
    // The state is set once the service has answered.
    // eslint-disable-next-line react-hooks/set-state-in-effect
    void read();
  }, [read]);

  const end = async (work: () => Promise<unknown>, own: boolean) => {
    try {
      await work();
    } catch (error) {
      setFault(error instanceof Error ? error.message : String(error));
      return;
    }
    if (own) {
      forget();
      onSignedOut();
    } else {
      await read();
    }
  };

  return (
    <div className="grid gap-4 py-6">
      <Section
        id="sessions"
        title="Browsers that are signed in"
        beside={<Button onClick={() => void end(endSessions, true)}>Sign out everywhere</Button>}
      >
        {fault !== undefined && (
          <p role="alert" className="mt-3 text-vermilion">
            {sentence(fault)}
          </p>
        )}
        <Table titles={['Browser', 'User', 'Signed in', 'Last used', '']}>
          {sessions.map((session) => (
            <tr key={session.id} data-session={session.id}>
              <td className={CELL} title={session.browser}>
                {browserName(session.browser)}
                {session.own && <span className="text-muted"> · this one</span>}
              </td>
              <td className={CELL}>{session.user}</td>
              <td className={CELL}>{dayAndClock(session.since)}</td>
              <td className={CELL}>{dayAndClock(session.used)}</td>
              <td className={CELL}>
                <Button onClick={() => void end(() => endSession(session.id), session.own)}>
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
