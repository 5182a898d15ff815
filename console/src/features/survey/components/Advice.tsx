import styled from 'styled-components';
import { theme } from '../../../app/theme';
import type { Found } from '../../../lib/interface';
import { CopyButton } from '../../../ui/CopyButton';
import { Faint, Row, Stack } from '../../../ui/layout';
import { Empty } from '../../../ui/states';

/** What could be better about the databases, with the statement that would mend it. */
export function Advice({ found }: { found: Found | null }) {
  if (found === null) return <Empty title="Advice is known after a survey" />;
  if (found.advice.length === 0 && found.notices.length === 0)
    return <Empty title="Nothing to advise">Keys and indexes are where they are needed.</Empty>;
  return (
    <Stack>
      <List aria-label="Advice">
        {found.advice.map((advice, index) => (
          <li key={index}>
            <strong>{advice.place}</strong> <Faint>of {advice.source}</Faint>
            <p>{advice.text}</p>
            {advice.statement && (
              <Row>
                <code>{advice.statement}</code>
                <CopyButton what={`the statement for ${advice.place}`} text={`${advice.statement};`} />
              </Row>
            )}
          </li>
        ))}
        {found.notices.map((notice, index) => (
          <li key={`notice ${String(index)}`}>
            <Faint>{notice.source}</Faint> {notice.text}
          </li>
        ))}
      </List>
    </Stack>
  );
}

const List = styled.ul`
  display: grid;
  gap: 8px;
  li {
    padding: 8px 12px;
    background: ${theme.surface};
    border: 1px solid ${theme.line};
    border-radius: 4px;
    overflow-wrap: anywhere;
  }
  code {
    padding: 4px 8px;
    background: ${theme.raised};
    border-radius: 4px;
  }
`;
