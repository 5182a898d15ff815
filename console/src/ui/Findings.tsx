import styled from 'styled-components';
import { theme } from '../app/theme';
import type { Finding } from '../lib/interface';
import { Word } from './layout';

/** What `puente check` says, each with its place in the file. */
export function Findings({ findings, onlyBreaking = false }: { findings: Finding[]; onlyBreaking?: boolean }) {
  const shown = onlyBreaking ? findings.filter((finding) => finding.breaking) : findings;
  if (shown.length === 0) return null;
  return (
    <List aria-label="Findings">
      {shown.map((finding, index) => (
        <li key={index}>
          <Word $tone={finding.breaking ? 'danger' : 'attention'}>{finding.kind}</Word>
          <span>
            {finding.line !== undefined && finding.line !== null && <code>line {finding.line}: </code>}
            {finding.text}
          </span>
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
    overflow-wrap: anywhere;
  }
  code {
    color: ${theme.muted};
  }
`;
