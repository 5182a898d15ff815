import type { ReactNode } from 'react';
import styled from 'styled-components';
import { theme } from '../app/theme';

interface Props {
  title: string;
  children: ReactNode;
}

/** Something went wrong: what, and what to do. */
export function Notice({ title, children }: Props) {
  return (
    <Box role="alert">
      <strong>{title}</strong>
      <div>{children}</div>
    </Box>
  );
}

const Box = styled.div`
  padding: 10px 12px;
  color: ${theme.text};
  background: ${theme.dangerGround};
  border-left: 4px solid ${theme.danger};
  overflow-wrap: anywhere;
  strong { color: ${theme.danger}; }
`;
