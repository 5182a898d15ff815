import { useMutation } from '@tanstack/react-query';
import { useNavigate, useSearch } from '@tanstack/react-router';
import { useEffect, useRef } from 'react';
import { useEdits } from '../../lib/edits';
import type { SurveyState } from '../../lib/interface';
import { post, remove } from '../../lib/project';
import { useProjectChanged, useSurvey } from '../../lib/queries';
import { useSession } from '../../lib/session';
import { Button, QuietButton } from '../../ui/Button';
import { Page, Stack } from '../../ui/layout';
import { Notice } from '../../ui/Notice';
import { Answered, Empty, Forbidden } from '../../ui/states';
import { Tab, TabList, TabPanel, Tabs } from '../../ui/Tabs';
import styled from 'styled-components';
import { Advice } from './components/Advice';
import { Changes } from './components/Changes';
import { Proposals } from './components/Proposals';
import { SurveyProgress } from '../../ui/SurveyProgress';
import { Tables } from './components/Tables';

/** What is in the databases: tables, what the survey proposes, what could be better, what changed. */
export function SurveyPage() {
  const { me } = useSession();
  const survey = useSurvey();
  if (!me.owner) {
    return (
      <Page title="Survey">
        <Forbidden>
          What is in the databases is shown to the owner: sign in with an access key of the role owner.
        </Forbidden>
      </Page>
    );
  }
  return (
    <Answered query={survey} what="The survey">
      {(state) => <Surveyed state={state} />}
    </Answered>
  );
}

function Surveyed({ state }: { state: SurveyState }) {
  const { key, me } = useSession();
  const { edits } = useEdits();
  const changed = useProjectChanged();
  const navigate = useNavigate();
  const { tab } = useSearch({ from: '/survey' });
  const begin = useMutation({ mutationFn: () => post(key, '/project/survey', {}), onSuccess: changed });
  const stop = useMutation({ mutationFn: () => remove(key, '/project/survey'), onSuccess: changed });
  const wasRunning = useRef(false);
  const isRunning = state.running !== undefined && state.running !== null;
  useEffect(() => {
    // What a survey that has ended found is news for every page.
    if (wasRunning.current && !isRunning) void changed();
    wasRunning.current = isRunning;
  }, [changed, isRunning]);

  const { sources, found } = state.surveyed;
  const taken = new Set(edits.map((edit) => JSON.stringify(edit)));
  const proposals = (found?.proposals ?? []).filter((proposal) => !taken.has(JSON.stringify(proposal.edit)));
  const tables = sources.reduce((sum, source) => sum + source.tables.length, 0);
  const waiting = proposals.length + (found?.renames.length ?? 0);
  const says = [
    `${count(tables, 'table')} in ${count(sources.length, 'source')}`,
    found
      ? waiting === 0
        ? 'no proposal waits'
        : waiting === 1
          ? '1 proposal waits'
          : `${String(waiting)} proposals wait`
      : 'proposals are known after a survey',
    found?.changes
      ? found.changes.length === 0
        ? 'nothing changed since the last survey'
        : `${count(found.changes.length, 'change')} since the last survey`
      : null,
  ];
  return (
    <Page
      title="Survey"
      says={says.filter((part) => part !== null).join('; ')}
      actions={
        me.editing &&
        (isRunning ? (
          <QuietButton
            onPress={() => {
              stop.mutate();
            }}
          >
            Stop the survey
          </QuietButton>
        ) : (
          <Button
            isDisabled={sources.length === 0 || begin.isPending}
            onPress={() => {
              begin.mutate();
            }}
          >
            {sources.length > 1 ? `Survey ${String(sources.length)} sources` : 'Survey the source'}
          </Button>
        ))
      }
    >
      <Padded>
        <Stack>
          {!me.editing && (
            <Notice tone="plain" title="Read-only here">
              {me.whyNot}
            </Notice>
          )}
          {state.running && <SurveyProgress running={state.running} />}
          {state.failed && <Notice title="The last survey failed">{state.failed}</Notice>}
          {begin.error && <Notice title="No survey was begun">{begin.error.message}</Notice>}
          {sources.length === 0 ? (
            <Empty title="There is no source yet">
              The page Start leads from a database's address to a first answer.
            </Empty>
          ) : (
            <Tabs
              selectedKey={tab ?? (waiting > 0 ? 'proposals' : 'tables')}
              onSelectionChange={(chosen) => {
                void navigate({ from: '/survey', search: (before) => ({ ...before, tab: String(chosen) }) });
              }}
            >
              <TabList aria-label="What the survey found">
                <Tab id="tables">Tables ({tables})</Tab>
                <Tab id="proposals">Proposals ({waiting})</Tab>
                <Tab id="advice">Advice ({found?.advice.length ?? 0})</Tab>
                <Tab id="changes">Changes ({found?.changes?.length ?? 0})</Tab>
              </TabList>
              <TabPanel id="tables">
                <Tables sources={sources} />
              </TabPanel>
              <TabPanel id="proposals">
                <Proposals found={found ?? null} proposals={proposals} />
              </TabPanel>
              <TabPanel id="advice">
                <Advice found={found ?? null} />
              </TabPanel>
              <TabPanel id="changes">
                <Changes found={found ?? null} />
              </TabPanel>
            </Tabs>
          )}
        </Stack>
      </Padded>
    </Page>
  );
}

function count(number: number, word: string): string {
  return `${String(number)} ${word}${number === 1 ? '' : 's'}`;
}

const Padded = styled.div`
  padding: 12px 16px;
`;
