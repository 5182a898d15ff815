import { createContext, useCallback, useContext, useEffect, useMemo, useState, type ReactNode } from 'react';
import { forgetKey, keepKey, takeKey } from './key';
import { askWho, Refused } from './project';
import type { Me } from './interface';

/** Who is signed in. The key stays in this tab's session storage, and is never part of an address that is shown. */
export type Session =
  | { kind: 'out'; refusal: string | null }
  | { kind: 'looking' }
  | { kind: 'unreachable'; message: string }
  | { kind: 'in'; key: string; me: Me };

interface Signing {
  session: Session;
  signIn: (key: string) => void;
  signOut: (refusal?: string) => void;
  again: () => void;
}

const SessionContext = createContext<Signing | null>(null);

export function SessionProvider({ children }: { children: ReactNode }) {
  const [key, setKey] = useState(takeKey);
  const [refusal, setRefusal] = useState<string | null>(null);
  const [found, setFound] = useState<Exclude<Session, { kind: 'out' }>>({ kind: 'looking' });
  const [tries, setTries] = useState(0);

  const signOut = useCallback((why?: string) => {
    forgetKey();
    setRefusal(why ?? null);
    setKey(null);
  }, []);
  const signIn = useCallback((typed: string) => {
    keepKey(typed);
    setRefusal(null);
    setFound({ kind: 'looking' });
    setKey(typed);
  }, []);

  useEffect(() => {
    if (key === null) return;
    const controller = new AbortController();
    askWho(key, controller.signal)
      .then((me) => {
        setFound({ kind: 'in', key, me });
      })
      .catch((error: unknown) => {
        if (controller.signal.aborted) return;
        if (error instanceof Refused && error.status === 401) signOut(error.message);
        else setFound({ kind: 'unreachable', message: error instanceof Error ? error.message : String(error) });
      });
    return () => {
      controller.abort();
    };
  }, [key, signOut, tries]);

  const signing = useMemo<Signing>(
    () => ({
      session: key === null ? { kind: 'out', refusal } : found,
      signIn,
      signOut,
      again: () => {
        setTries((tries) => tries + 1);
      },
    }),
    [found, key, refusal, signIn, signOut],
  );
  return <SessionContext.Provider value={signing}>{children}</SessionContext.Provider>;
}

export function useSigning(): Signing {
  const signing = useContext(SessionContext);
  if (!signing) throw new Error('outside of the session');
  return signing;
}

/** Whoever is signed in: for pages, which are shown to nobody else. */
export function useSession(): { key: string; me: Me } {
  const { session } = useSigning();
  if (session.kind !== 'in') throw new Error('nobody is signed in');
  return session;
}
