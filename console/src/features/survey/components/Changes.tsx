import styled from 'styled-components';
import { theme } from '../../../app/theme';
import type { Found } from '../../../lib/interface';
import { Faint, Word } from '../../../ui/layout';
import { Empty } from '../../../ui/states';

/** What changed in the databases since the survey before. */
export function Changes({ found }: { found: Found | null }) {
  if (!found?.changes) return <Empty title="Changes are known after a second survey" />;
  if (found.changes.length === 0) return <Empty title="Nothing changed since the last survey" />;
  return (
    <List aria-label="Changes">
      {found.changes.map((change, index) => (
        <li key={index}>
          <Word {...(change.breaking ? { $tone: 'danger' as const } : {})}>{change.breaking ? 'breaks' : 'adds'}</Word>
          <span>{change.text}</span>
          <Faint>{change.source}</Faint>
        </li>
      ))}
    </List>
  );
}

const List = styled.ul`
  display: grid;
  gap: 4px;
  li {
    display: flex;
    align-items: baseline;
    gap: 8px;
    padding: 4px 12px;
    background: ${theme.surface};
    border: 1px solid ${theme.line};
    border-radius: 4px;
  }
`;
