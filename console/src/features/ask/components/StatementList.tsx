import styled from 'styled-components';
import { theme } from '../../../app/theme';
import type { Statement } from '../../../lib/client';
import { milliseconds } from '../model';

/** What was sent to the database for one request, with times. */
export function StatementList({ statements, total }: { statements: Statement[]; total: number | null }) {
  return (
    <>
      <p>
        {statements.length} {statements.length === 1 ? 'statement' : 'statements'}
        {total !== null && `, ${milliseconds(total)} in all`}
      </p>
      <List>
        {statements.map((statement, index) => (
          <li key={index}>
            <div>
              executed {statement.executions}×, {statement.rows} {statement.rows === 1 ? 'row' : 'rows'},{' '}
              {milliseconds(statement.microseconds)}
            </div>
            <code>{statement.text}</code>
          </li>
        ))}
      </List>
    </>
  );
}

const List = styled.ol`
  padding-left: 22px;
  li {
    margin-bottom: 12px;
  }
  div {
    color: ${theme.muted};
    font-size: 12px;
  }
  code {
    font: 12.5px/1.5 ${theme.mono};
    overflow-wrap: anywhere;
  }
`;
