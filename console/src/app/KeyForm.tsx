import { useState } from 'react';
import { Form, Input, Label, TextField } from 'react-aria-components';
import styled from 'styled-components';
import { Button } from '../ui/Button';
import { Notice } from '../ui/Notice';
import { theme } from './theme';

interface Props {
  refusal: string | null;
  onKey: (key: string) => void;
}

/** Asks for the access key, and says why the last one was refused. */
export function KeyForm({ refusal, onKey }: Props) {
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
          Who is asking? <code>puente key create NAME</code> makes an access key, and <code>puente demo</code> prints one. It is kept in
          this tab only.
        </p>
        {refusal !== null && <Notice title="The last key was refused">{refusal}</Notice>}
        <TextField value={key} onChange={setKey} type="password" isRequired autoFocus>
          <Label>Access key</Label>
          <Input />
        </TextField>
        <Button type="submit">Use this key</Button>
      </Card>
    </Centre>
  );
}

const Centre = styled.main`
  display: grid;
  place-items: center;
  min-height: 100%;
  padding: 24px;
`;

const Card = styled(Form)`
  display: grid;
  gap: 14px;
  width: min(440px, 100%);
  padding: 28px;
  background: ${theme.surface};
  border: 1px solid ${theme.line};
  border-left: 6px solid ${theme.accent};
  h1 { margin: 0; font-size: 22px; }
  p { margin: 0; color: ${theme.muted}; }
  label { display: block; font-weight: 600; margin-bottom: 4px; }
  input {
    width: 100%; padding: 8px 10px; font: 14px ${theme.mono};
    background: ${theme.raised}; color: ${theme.text}; border: 1px solid ${theme.line};
  }
  code { font-family: ${theme.mono}; color: ${theme.text}; }
`;
