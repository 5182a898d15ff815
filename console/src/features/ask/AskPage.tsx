import { useQuery } from '@tanstack/react-query';
import { useSearch } from '@tanstack/react-router';
import { lazy, Suspense, useCallback, useEffect, useMemo, useRef, useState } from 'react';
import styled from 'styled-components';
import { theme } from '../../app/theme';
import { readClaims, useAs, useClaimsText } from '../../lib/as';
import { send, type Ask } from '../../lib/client';
import { useSession, useSigning } from '../../lib/session';
import { keep, kept, useKept } from '../../lib/store';
import { Button, QuietButton } from '../../ui/Button';
import { Select, Switch } from '../../ui/fields';
import { Page } from '../../ui/layout';
import { Notice } from '../../ui/Notice';
import { loadSchema } from './api';
import { AnswerPanel, type AnswerState } from './components/AnswerPanel';
import { Documentation } from './components/Documentation';
import { firstDocument, isMutation, nextPages, operationNames, parseVariables } from './model';

// The editor is the largest part of the console: the page stands before it is there.
const Editor = lazy(() => import('./components/Editor'));

/** Write a request on the left, see what comes back on the right, read the schema beside it; as whomever. */
export function AskPage() {
  const { key, me } = useSession();
  const { signOut } = useSigning();
  const { role } = useAs();
  const { type } = useSearch({ from: '/ask' });
  const [document, setDocument] = useState<string | null>(() =>
    type === undefined ? kept<string | null>('browser', 'ask.document', null) : null,
  );
  const [variables, setVariables] = useKept<string>('browser', 'ask.variables', '');
  const [operation, setOperation] = useState('');
  const [answer, setAnswer] = useState<AnswerState>({ kind: 'nothing' });
  const [reading, setReading] = useKept('browser', 'ask.reading', true);
  const [rehearses, setRehearses] = useState<boolean | null>(null);
  const running = useRef<AbortController | null>(null);

  const [claims] = useClaimsText(role);
  const as = useMemo<Ask['as']>(() => {
    if (role === me.role) return undefined;
    const read = readClaims(claims);
    return me.owner ? { role, claims: read.ok ? read.claims : {} } : role;
  }, [claims, me.owner, me.role, role]);
  const schema = useQuery({
    queryKey: ['schema', as],
    queryFn: ({ signal }) => loadSchema(key, as, signal),
    staleTime: 60_000,
  });

  const first = useMemo(() => (schema.data ? firstDocument(schema.data, type) : null), [schema.data, type]);
  const text = document ?? first ?? '';
  const names = operationNames(text);
  const chosen = names.includes(operation) ? operation : names[0];
  const changes = isMutation(text, chosen);
  const rehearse = rehearses ?? changes;

  const run = useCallback(
    async (document: string, variables: string) => {
      const parsed = parseVariables(variables);
      if (!parsed.ok) {
        setAnswer({ kind: 'refused', message: parsed.message });
        return;
      }
      running.current?.abort();
      const controller = new AbortController();
      running.current = controller;
      setAnswer({ kind: 'running' });
      const operation = names.length > 1 && chosen ? { operationName: chosen } : {};
      const ask: Ask = {
        document,
        variables: parsed.variables,
        statements: me.owner,
        ...operation,
        ...(as === undefined ? {} : { as }),
        rehearse: rehearse && changes,
      };
      const outcome = await send(key, ask, controller.signal);
      // What was asked first is the document from now on, whoever one looks as later.
      setDocument((known) => known ?? document);
      if (running.current !== controller) return;
      running.current = null;
      if (outcome.kind === 'unauthenticated') signOut(outcome.message);
      else
        setAnswer(
          outcome.kind === 'answered'
            ? { ...outcome, document, operation: chosen, rehearsed: rehearse && changes }
            : outcome,
        );
    },
    [as, changes, chosen, key, me.owner, names.length, rehearse, signOut],
  );

  // A query for this model, and its answer: nobody begins with an empty page.
  const began = useRef(false);
  useEffect(() => {
    if (document !== null || first === null || began.current) return;
    began.current = true;
    void run(first, '');
  }, [document, first, run]);

  const next = answer.kind === 'answered' ? nextPages(text, chosen, variables, answer.answer.data) : [];
  return (
    <Page
      title="Ask"
      says={me.owner ? `You ask as ${role}.` : `You ask as ${role}, the role of this key.`}
      actions={
        <QuietButton
          aria-pressed={reading}
          onPress={() => {
            setReading(!reading);
          }}
        >
          {reading ? 'Hide schema' : 'Show schema'}
        </QuietButton>
      }
    >
      <Parts $reading={reading}>
        <Writing aria-label="The request">
          <Bar>
            <Button onPress={() => void run(text, variables)} aria-keyshortcuts="Control+Enter">
              {changes ? (rehearse ? 'Rehearse' : 'Run the mutation') : 'Run'}
            </Button>
            {names.length > 1 && (
              <Select
                label="Operation"
                hideLabel
                value={chosen ?? null}
                options={names.map((name) => ({ id: name, text: name }))}
                onChange={setOperation}
              />
            )}
            {changes && (
              <Switch checked={rehearse} onChange={setRehearses}>
                rehearse: roll back in the end
              </Switch>
            )}
            {answer.kind === 'running' && (
              <QuietButton
                onPress={() => {
                  running.current?.abort();
                }}
              >
                Stop
              </QuietButton>
            )}
            <Hint>Ctrl-Enter</Hint>
          </Bar>
          <Suspense fallback={<Hint>The editor is loading…</Hint>}>
            {document === null && first === null ? (
              <Hint>{schema.isError ? '' : 'A first query is on its way…'}</Hint>
            ) : (
              <DocumentSlot>
                <Editor
                  label="Document"
                  language="graphql"
                  text={text}
                  schema={schema.data}
                  onChange={(text) => {
                    setDocument(text);
                    keep('browser', 'ask.document', text);
                  }}
                  onRun={() => void run(text, variables)}
                />
              </DocumentSlot>
            )}
            <SlotTitle>Variables</SlotTitle>
            <VariablesSlot>
              <Editor
                label="Variables"
                language="json"
                text={variables}
                onChange={setVariables}
                onRun={() => void run(text, variables)}
              />
            </VariablesSlot>
          </Suspense>
        </Writing>

        <Answering aria-label="The answer" aria-live="polite">
          <AnswerPanel
            state={answer}
            owner={me.owner}
            next={next.map((page) => ({
              field: page.field,
              go: () => {
                setDocument(page.document);
                keep('browser', 'ask.document', page.document);
                setVariables(page.variables);
                void run(page.document, page.variables);
              },
            }))}
          />
        </Answering>

        {reading && (
          <Reading>
            {schema.data && <Documentation schema={schema.data} />}
            {schema.isPending && <Hint>The schema is loading…</Hint>}
            {schema.isError && <Notice title="The schema could not be loaded">{schema.error.message}</Notice>}
          </Reading>
        )}
      </Parts>
    </Page>
  );
}

const Parts = styled.div<{ $reading: boolean }>`
  display: grid;
  height: 100%;
  grid-template-columns:
    minmax(280px, 5fr) minmax(320px, 7fr)
    ${({ $reading }) => ($reading ? 'minmax(200px, 3fr)' : '')};
  grid-template-rows: minmax(0, 1fr);
  gap: 1px;
  background: ${theme.line};
  > * {
    background: ${theme.surface};
    min-width: 0;
    min-height: 0;
  }
  @media (max-width: 800px) {
    height: auto;
    grid-template-columns: minmax(0, 1fr);
    grid-template-rows: 60vh minmax(50vh, auto) auto;
  }
`;
const Writing = styled.section`
  display: flex;
  flex-direction: column;
`;
const Bar = styled.div`
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 8px;
  padding: 6px 12px;
  border-bottom: 1px solid ${theme.line};
`;
const Hint = styled.span`
  color: ${theme.muted};
  font-size: 12px;
  padding: 4px;
`;
const DocumentSlot = styled.div`
  flex: 1;
  min-height: 0;
  overflow: auto;
`;
const SlotTitle = styled.h2`
  padding: 4px 12px;
  font-size: 12px;
  color: ${theme.muted};
  background: ${theme.raised};
  border-block: 1px solid ${theme.line};
`;
const VariablesSlot = styled.div`
  height: 20%;
  min-height: 72px;
  overflow: auto;
`;
const Answering = styled.section`
  display: flex;
  flex-direction: column;
  padding: 0 12px;
`;
const Reading = styled.aside`
  overflow: hidden;
`;
