import styled from 'styled-components';
import { theme } from '../app/theme';
import type { DiffGroup, DiffKind } from '../lib/interface';

const SIGNS: Record<DiffKind, { sign: string; word: string }> = {
  same: { sign: ' ', word: '' },
  removed: { sign: '−', word: 'goes: ' },
  added: { sign: '+', word: 'comes: ' },
};

/** Lines of a file that go and come, each group with what is around it. */
export function Diff({ groups }: { groups: DiffGroup[] }) {
  if (groups.length === 0) return <p>The file stays as it is.</p>;
  return (
    <Whole>
      {groups.map((group, index) => (
        <Group key={index} tabIndex={0}>
          {group.lines.map((line, at) => (
            <Line key={at} $kind={line.kind}>
              <Number aria-hidden="true">{line.after ?? line.before}</Number>
              <span aria-hidden="true">{SIGNS[line.kind].sign}</span>
              <code>
                <span className="visually-hidden">{SIGNS[line.kind].word}</span>
                {line.text === '' ? ' ' : line.text}
              </code>
            </Line>
          ))}
        </Group>
      ))}
    </Whole>
  );
}

const Whole = styled.div`
  display: grid;
  grid-template-columns: minmax(0, 1fr);
  gap: 8px;
  margin-top: 4px;
`;
const Group = styled.div`
  overflow: auto;
  border: 1px solid ${theme.line};
  border-radius: 4px;
`;
const Line = styled.div<{ $kind: DiffKind }>`
  display: grid;
  grid-template-columns: 40px 14px max-content;
  min-width: max-content;
  background: ${({ $kind }) => ($kind === 'added' ? theme.doneGround : $kind === 'removed' ? theme.dangerGround : 'transparent')};
  color: ${({ $kind }) => ($kind === 'added' ? theme.done : $kind === 'removed' ? theme.danger : theme.text)};
  code {
    white-space: pre;
    padding-right: 8px;
    color: ${theme.text};
  }
`;
const Number = styled.span`
  padding-right: 8px;
  text-align: right;
  color: ${theme.muted};
  font-size: 12px;
`;
