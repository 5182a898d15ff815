import styled from 'styled-components';
import { theme } from '../../../app/theme';
import type { Outcome, Problem } from '../../../lib/client';
import { Notice } from '../../../ui/Notice';
import { Tab, TabList, TabPanel, Tabs } from '../../../ui/Tabs';
import { AnswerTable } from '../../../ui/answer/AnswerTable';
import { QuietButton } from '../../../ui/Button';
import { StatementList } from './StatementList';

export type AnswerState =
  | { kind: 'nothing' }
  | { kind: 'running' }
  | { kind: 'refused'; message: string }
  | Exclude<Outcome, { kind: 'answered' }>
  | (Extract<Outcome, { kind: 'answered' }> & { document: string; operation: string | undefined; rehearsed: boolean });

interface Props {
  state: AnswerState;
  owner: boolean;
  /** Lists that have a next page, and the way there. */
  next: { field: string; go: () => void }[];
}

/** What came back, or what went wrong. Statements are the owner's to see. */
export function AnswerPanel({ state, owner, next }: Props) {
  switch (state.kind) {
    case 'nothing':
      return <Empty>Run a request, and its answer appears here.</Empty>;
    case 'running':
      return <Empty role="status">Asking…</Empty>;
    case 'refused':
      return (
        <Padded>
          <Notice title="Not sent">{state.message}</Notice>
        </Padded>
      );
    case 'unauthenticated':
      return (
        <Padded>
          <Notice title="UNAUTHENTICATED">{state.message}</Notice>
        </Padded>
      );
    case 'failed':
      return (
        <Padded>
          <Notice title={state.message}>{state.remedy}</Notice>
        </Padded>
      );
    case 'answered': {
      const { data, problems, statements, microseconds } = state.answer;
      return (
        <>
          {state.rehearsed && data !== null && (
            <Padded>
              <Notice tone="attention" title="Rehearsed">
                It ran for real and was rolled back: nothing has changed.
              </Notice>
            </Padded>
          )}
          {problems.length > 0 && (
            <Padded>
              {problems.map((problem, index) => (
                <ProblemNotice key={index} problem={problem} />
              ))}
            </Padded>
          )}
          {data !== null && (
            <Tabs>
              <TabList aria-label="Answer as">
                <Tab id="table">Table</Tab>
                <Tab id="json">JSON</Tab>
                {owner && <Tab id="statements">Statements ({statements.length})</Tab>}
              </TabList>
              <TabPanel id="table">
                <AnswerTable data={data} document={state.document} operation={state.operation} />
                {next.map(({ field, go }) => (
                  <QuietButton key={field} onPress={go}>
                    Next page of {field}
                  </QuietButton>
                ))}
              </TabPanel>
              <TabPanel id="json">
                <Text>{JSON.stringify(data, null, 2)}</Text>
              </TabPanel>
              {owner && (
                <TabPanel id="statements">
                  <StatementList statements={statements} total={microseconds} />
                </TabPanel>
              )}
            </Tabs>
          )}
        </>
      );
    }
  }
}

function ProblemNotice({ problem }: { problem: Problem }) {
  const place = problem.locations[0];
  return (
    <Notice title={problem.code}>
      {problem.message}
      {place && ` (line ${String(place.line)}, column ${String(place.column)})`}
      {problem.path.length > 0 && <Path>at {problem.path.join(' › ')}</Path>}
    </Notice>
  );
}

const Empty = styled.p`
  margin: auto;
  padding: 24px;
  color: ${theme.muted};
`;

const Padded = styled.div`
  display: grid;
  gap: 8px;
  padding: 12px;
  max-height: 50%;
  overflow: auto;
`;

const Path = styled.div`
  color: ${theme.muted};
  font-size: 12px;
`;

const Text = styled.pre`
  margin: 0;
  font: 13px/1.5 ${theme.mono};
  white-space: pre-wrap;
  overflow-wrap: anywhere;
`;
