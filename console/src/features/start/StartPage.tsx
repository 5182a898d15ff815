import { useMutation } from '@tanstack/react-query';
import { Link, useSearch } from '@tanstack/react-router';
import styled from 'styled-components';
import { theme } from '../../app/theme';
import type { ProjectState } from '../../lib/interface';
import { post } from '../../lib/project';
import { useProjectState } from '../../lib/queries';
import { useSession } from '../../lib/session';
import { QuietButton } from '../../ui/Button';
import { Faint, Page, Panel, Stack, Word } from '../../ui/layout';
import { Notice } from '../../ui/Notice';
import { RoleMark } from '../../ui/RoleMark';
import { Answered } from '../../ui/states';
import { Findings } from '../../ui/Findings';
import { grouped, shortTime } from '../../ui/table/kinds';
import { FirstSteps } from './components/FirstSteps';

/** Where the project stands: its sources, what wants attention, the last requests. An empty project leads by the hand. */
export function StartPage() {
  const { me } = useSession();
  const state = useProjectState();
  const { step } = useSearch({ from: '/' });
  if (!me.owner) return <Guest />;
  return (
    <Answered query={state} what="The project">
      {(state) =>
        state.sources.length === 0 || step !== undefined ? <FirstSteps state={state} /> : <Project state={state} />
      }
    </Answered>
  );
}

function Guest() {
  const { me } = useSession();
  return (
    <Page title="Start" says={`You ask as ${me.role ?? 'nobody'}, by ${me.by}.`}>
      <Padded>
        <Panel title="What is open to you">
          <p>
            With this key you see what the role {me.role ?? 'nobody'} may: <Link to="/ask">ask a query</Link>. The
            model, the grants and the databases are shown to the owner.
          </p>
        </Panel>
      </Padded>
    </Page>
  );
}

function Project({ state }: { state: ProjectState }) {
  const { key, me } = useSession();
  const drift = useMutation({ mutationFn: () => post(key, '/project/drift', undefined) });
  const away = state.sources.filter((source) => !source.ready);
  const says = [
    `${String(state.types)} types from ${state.sources.length === 1 ? '1 source' : `${String(state.sources.length)} sources`}`,
    state.proposals === undefined || state.proposals === null
      ? null
      : state.proposals === 0
        ? 'no proposal waits'
        : state.proposals === 1
          ? '1 proposal waits'
          : `${String(state.proposals)} proposals wait`,
    away.length === 0 ? 'every source answers' : `${away.map((source) => source.name).join(' and ')} away`,
  ];
  const wanting = (state.proposals ?? 0) + state.findings.length + away.length;
  return (
    <Page title="Start" says={says.filter((part) => part !== null).join('; ')}>
      <Padded>
        <Columns>
          <Stack>
            <Panel title="Sources">
              <List>
                {state.sources.map((source) => (
                  <li key={source.name}>
                    <Word $tone={source.ready ? 'done' : 'danger'}>{source.ready ? 'answers' : 'away'}</Word>
                    <strong>{source.name}</strong>
                    <Faint>
                      {source.engine}, {source.types} types
                    </Faint>
                    {source.text && <p>{source.text}</p>}
                  </li>
                ))}
              </List>
              {me.editing && (
                <Link to="/" search={{ step: 'connect' }}>
                  Add a source
                </Link>
              )}
            </Panel>
            <Panel
              title={wanting === 0 ? 'Nothing wants attention' : 'What wants attention'}
              actions={
                <QuietButton
                  isDisabled={drift.isPending}
                  onPress={() => {
                    drift.mutate();
                  }}
                >
                  {drift.isPending ? 'Comparing…' : 'Compare with the databases'}
                </QuietButton>
              }
            >
              <Stack $gap={8}>
                {(state.proposals ?? 0) > 0 && (
                  <p>
                    <Link to="/survey" search={{ tab: 'proposals' }}>
                      {state.proposals === 1 ? '1 proposal' : `${String(state.proposals)} proposals`}
                    </Link>{' '}
                    of the last survey {state.proposals === 1 ? 'waits' : 'wait'} for a decision.
                  </p>
                )}
                <Findings findings={state.findings} />
                {drift.data &&
                  (drift.data.length === 0 ? (
                    <Notice tone="done" title="Nothing drifted">
                      The databases are as they were surveyed.
                    </Notice>
                  ) : (
                    <Findings findings={drift.data} />
                  ))}
                {drift.error && <Notice title="They could not be compared">{drift.error.message}</Notice>}
                {wanting === 0 && <Faint>Drift, proposals and what `puente check` warns of would be here.</Faint>}
              </Stack>
            </Panel>
          </Stack>
          <Panel title="The last requests">
            {state.asks.length === 0 ? (
              <Faint>Nobody has asked since the service started.</Faint>
            ) : (
              <Asks asks={state.asks} roles={me.roles} />
            )}
          </Panel>
        </Columns>
      </Padded>
    </Page>
  );
}

function Asks({ asks, roles }: { asks: ProjectState['asks']; roles: string[] }) {
  return (
    <Scroll>
      <Table>
        <caption className="visually-hidden">The last requests</caption>
        <thead>
          <tr>
            <th scope="col">at</th>
            <th scope="col">as</th>
            <th scope="col">operation</th>
            <th scope="col">outcome</th>
            <th scope="col" className="right">
              rows
            </th>
            <th scope="col" className="right">
              ms
            </th>
          </tr>
        </thead>
        <tbody>
          {asks.slice(0, 20).map((ask, index) => (
            <tr key={index}>
              <td>
                <time title={ask.at}>{shortTime(ask.at).slice(11)}</time>
              </td>
              <td>
                <span className="role">
                  <RoleMark role={ask.role} roles={roles} /> {ask.role}
                </span>
              </td>
              <td>{ask.operation === '' ? <Faint>unnamed</Faint> : ask.operation}</td>
              <td>{ask.outcome === 'ok' ? 'ok' : <Word $tone="attention">{ask.outcome}</Word>}</td>
              <td className="right">{grouped(ask.rows)}</td>
              <td className="right">{(ask.microseconds / 1000).toFixed(1)}</td>
            </tr>
          ))}
        </tbody>
      </Table>
    </Scroll>
  );
}

const Padded = styled.div`
  padding: 12px 16px;
  a {
    color: ${theme.accent};
  }
`;
const Columns = styled.div`
  display: grid;
  grid-template-columns: minmax(0, 5fr) minmax(0, 6fr);
  align-items: start;
  gap: 12px;
  @media (max-width: 900px) {
    grid-template-columns: minmax(0, 1fr);
  }
`;
const List = styled.ul`
  display: grid;
  gap: 4px;
  margin-bottom: 8px;
  li {
    display: flex;
    flex-wrap: wrap;
    align-items: baseline;
    gap: 8px;
  }
  p {
    flex-basis: 100%;
    color: ${theme.muted};
    overflow-wrap: anywhere;
  }
`;
const Scroll = styled.div`
  overflow-x: auto;
`;
const Table = styled.table`
  width: 100%;
  border-collapse: collapse;
  th,
  td {
    padding: 4px 10px 4px 0;
    text-align: left;
    white-space: nowrap;
    border-bottom: 1px solid ${theme.line};
  }
  th {
    color: ${theme.muted};
    font-weight: 600;
  }
  .right {
    text-align: right;
  }
  .role {
    display: inline-flex;
    align-items: center;
    gap: 6px;
  }
`;
