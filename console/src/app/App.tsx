import { QueryClient, QueryClientProvider } from '@tanstack/react-query';
import { RouterProvider } from '@tanstack/react-router';
import { useEffect, useState } from 'react';
import { EditsProvider } from '../lib/edits';
import { Refused } from '../lib/project';
import { SessionProvider, useSigning } from '../lib/session';
import { Button } from '../ui/Button';
import { Loading } from '../ui/states';
import { Notice } from '../ui/Notice';
import { loadPages, makeRouter } from './routes';
import { SignIn } from './SignIn';
import { GlobalStyle } from './theme';

/** Who is asking comes first; everything else needs a key. */
export function App() {
  return (
    <SessionProvider>
      <GlobalStyle />
      <SignedIn />
    </SessionProvider>
  );
}

function SignedIn() {
  const { session, signIn, signOut, again } = useSigning();
  switch (session.kind) {
    case 'out':
      return <SignIn refusal={session.refusal} onKey={signIn} />;
    case 'looking':
      return <Loading what="The console" />;
    case 'unreachable':
      return (
        <main style={{ padding: 24, display: 'grid', gap: 12, justifyItems: 'start' }}>
          <h1>Puente</h1>
          <Notice title="The service does not answer">{session.message}</Notice>
          <Button onPress={again}>Try again</Button>
          <Button
            onPress={() => {
              signOut();
            }}
          >
            Sign out
          </Button>
        </main>
      );
    case 'in':
      // Whoever signs in as somebody else sees nothing of what was answered before.
      return <Signed key={session.key} />;
  }
}

function Signed() {
  const { signOut } = useSigning();
  const [client] = useState(
    () =>
      new QueryClient({
        defaultOptions: {
          queries: {
            staleTime: 10_000,
            retry: (count, error) => !(error instanceof Refused && error.status > 0) && count < 2,
            throwOnError: (error) => {
              if (error instanceof Refused && error.status === 401) signOut(error.message);
              return false;
            },
          },
        },
      }),
  );
  const [router] = useState(makeRouter);
  useEffect(() => {
    const timer = setTimeout(loadPages, 1_500);
    return () => {
      clearTimeout(timer);
    };
  }, []);
  return (
    <QueryClientProvider client={client}>
      <EditsProvider>
        <RouterProvider router={router} />
      </EditsProvider>
    </QueryClientProvider>
  );
}
