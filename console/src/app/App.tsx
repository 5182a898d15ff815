import { useState } from 'react';
import { AskPage } from '../features/ask/AskPage';
import { forgetKey, keepKey, takeKey } from '../lib/key';
import { KeyForm } from './KeyForm';
import { GlobalStyle } from './theme';

/** Who is asking comes first; everything else needs a key. */
export function App() {
  const [key, setKey] = useState(takeKey);
  const [refusal, setRefusal] = useState<string | null>(null);
  return (
    <>
      <GlobalStyle />
      {key === null ? (
        <KeyForm
          refusal={refusal}
          onKey={(typed) => {
            keepKey(typed);
            setRefusal(null);
            setKey(typed);
          }}
        />
      ) : (
        <AskPage
          accessKey={key}
          onRefused={(message) => {
            forgetKey();
            setRefusal(message);
            setKey(null);
          }}
          onLeave={() => {
            forgetKey();
            setRefusal(null);
            setKey(null);
          }}
        />
      )}
    </>
  );
}
