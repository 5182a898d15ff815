import type { ReactNode } from 'react';
import styled from 'styled-components';
import { theme } from '../app/theme';

type Tone = 'danger' | 'attention' | 'done' | 'plain';

interface Props {
  title: string;
  tone?: Tone;
  children?: ReactNode;
}

const COLOURS: Record<Tone, { ground: string; mark: string }> = {
  danger: { ground: theme.dangerGround, mark: theme.danger },
  attention: { ground: theme.attentionGround, mark: theme.attention },
  done: { ground: theme.doneGround, mark: theme.done },
  plain: { ground: theme.raised, mark: theme.muted },
};

/** Something went wrong, wants a look, or went well: what, and what to do. */
export function Notice({ title, tone = 'danger', children }: Props) {
  return (
    <Box role={tone === 'danger' ? 'alert' : 'status'} $tone={tone}>
      <strong>{title}</strong>
      {children !== undefined && <div>{children}</div>}
    </Box>
  );
}

const Box = styled.div<{ $tone: Tone }>`
  padding: 8px 12px;
  color: ${theme.text};
  background: ${({ $tone }) => COLOURS[$tone].ground};
  border-left: 4px solid ${({ $tone }) => COLOURS[$tone].mark};
  border-radius: 0 4px 4px 0;
  overflow-wrap: anywhere;
  strong {
    color: ${({ $tone }) => COLOURS[$tone].mark};
  }
`;
