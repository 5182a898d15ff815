import type { ReactNode } from 'react';
import styled from 'styled-components';
import { theme } from '../app/theme';

/** A page: first of all, in one line, what one looks for there. */
export function Page({
  title,
  says,
  actions,
  children,
}: {
  title: string;
  says?: ReactNode;
  actions?: ReactNode;
  children: ReactNode;
}) {
  return (
    <Whole>
      <Head>
        <h1>{title}</h1>
        <Says role="status">{says}</Says>
        {actions}
      </Head>
      <Rest>{children}</Rest>
    </Whole>
  );
}

const Whole = styled.div`
  display: flex;
  flex-direction: column;
  height: 100%;
  min-height: 0;
`;
const Head = styled.header`
  display: flex;
  flex: none;
  flex-wrap: wrap;
  align-items: center;
  gap: 4px 12px;
  min-height: 44px;
  padding: 6px 16px;
  border-bottom: 1px solid ${theme.line};
`;
const Says = styled.p`
  flex: 1 1 200px;
  color: ${theme.muted};
`;
const Rest = styled.div`
  flex: 1;
  min-height: 0;
  overflow: auto;
`;

/** A part of a page with a heading. */
export function Panel({ title, actions, children }: { title: string; actions?: ReactNode; children: ReactNode }) {
  return (
    <PanelBox aria-label={title}>
      <PanelHead>
        <h2>{title}</h2>
        {actions}
      </PanelHead>
      {children}
    </PanelBox>
  );
}

const PanelBox = styled.section`
  min-width: 0;
  background: ${theme.surface};
  border: 1px solid ${theme.line};
  border-radius: 4px;
  padding: 12px 16px;
`;
const PanelHead = styled.div`
  display: flex;
  align-items: center;
  justify-content: space-between;
  flex-wrap: wrap;
  gap: 8px;
  margin-bottom: 8px;
`;

/** Things beside each other, with room between. */
export const Row = styled.div<{ $gap?: number }>`
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: ${({ $gap }) => String($gap ?? 8)}px;
  min-width: 0;
`;

/** Things below each other. */
export const Stack = styled.div<{ $gap?: number }>`
  display: grid;
  grid-template-columns: minmax(0, 1fr);
  gap: ${({ $gap }) => String($gap ?? 12)}px;
  min-width: 0;
`;

export const Faint = styled.span`
  color: ${theme.muted};
`;

/** A word that says what kind of thing something is. */
export const Word = styled.span<{ $tone?: 'attention' | 'danger' | 'done' }>`
  flex: none;
  padding: 0 5px;
  border: 1px solid currentColor;
  border-radius: 4px;
  font-size: 12px;
  color: ${({ $tone }) => ($tone === undefined ? theme.muted : theme[$tone])};
`;
