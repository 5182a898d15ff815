import { useState } from 'react';
import { Form } from 'react-aria-components';
import styled from 'styled-components';
import { Button } from '../ui/Button';
import { TextField } from '../ui/fields';
import { Notice } from '../ui/Notice';
import { theme } from './theme';

interface Props {
  refusal: string | null;
  onKey: (key: string) => void;
}

/** Asks for an access key or a token, and says why the last one was refused. */
export function SignIn({ refusal, onKey }: Props) {
  const [key, setKey] = useState('');
  return (
    <Centre>
      <Card
        onSubmit={(event) => {
          event.preventDefault();
          if (key.trim() !== '') onKey(key.trim());
        }}
      >
        <h1>Puente</h1>
        <p>
          Who is asking? <code>puente key create NAME --role owner</code> makes an access key, <code>puente demo</code>{' '}
          prints one, and a token of yours does as well. It is kept in this tab only.
        </p>
        {refusal !== null && <Notice title="The last key was refused">{refusal}</Notice>}
        <TextField label="Access key or token" value={key} onChange={setKey} type="password" mono autoFocus />
        <Button type="submit">Sign in</Button>
      </Card>
    </Centre>
  );
}

const Centre = styled.main`
  display: grid;
  place-items: center;
  min-height: 100%;
  padding: 16px;
`;
const Card = styled(Form)`
  display: grid;
  gap: 12px;
  width: min(440px, 100%);
  padding: 24px;
  background: ${theme.surface};
  border: 1px solid ${theme.line};
  border-left: 4px solid ${theme.accent};
  border-radius: 0 4px 4px 0;
  h1 {
    color: ${theme.accent};
  }
  p {
    color: ${theme.muted};
  }
  code {
    color: ${theme.text};
  }
`;
