import { lazy, Suspense, useCallback, useEffect, useRef, useState } from 'react';
import styled from 'styled-components';
import { theme } from '../../app/theme';
import { send } from '../../lib/client';
import { Button, QuietButton } from '../../ui/Button';
import { Notice } from '../../ui/Notice';
import { loadSchema, type SchemaState } from './api';
import { AnswerPanel, type AnswerState } from './components/AnswerPanel';
import { Documentation } from './components/Documentation';
import { FIRST_DOCUMENT, operationNames, parseVariables, remember, remembered } from './model';

// The editor is the largest part of the console: the page stands before it is there.
const Editor = lazy(() => import('./components/Editor'));

interface Props {
  accessKey: string;
  /** The service does not accept the key. */
  onRefused: (message: string) => void;
  /** The person is done. */
  onLeave: () => void;
}

/** Write a request on the left, see what comes back on the right, read the schema beside it. */
export function AskPage({ accessKey, onRefused, onLeave }: Props) {
  const [document, setDocument] = useState(() => remembered('document') ?? FIRST_DOCUMENT);
  const [variables, setVariables] = useState(() => remembered('variables') ?? '');
  const [operation, setOperation] = useState('');
  const [schema, setSchema] = useState<SchemaState>({ kind: 'loading' });
  const [answer, setAnswer] = useState<AnswerState>({ kind: 'nothing' });
  const [reading, setReading] = useState(true);
  const running = useRef<AbortController | null>(null);

  useEffect(() => {
    let wanted = true;
    void loadSchema(accessKey).then((state) => {
      if (!wanted) return;
      if (state.kind === 'unauthenticated') onRefused(state.message);
      else setSchema(state);
    });
    return () => {
      wanted = false;
    };
    // A new function to call is no reason to load the schema again.
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [accessKey]);

  // Until the schema tells who asks, nothing is asked for that only the owner is shown.
  const owner = schema.kind === 'ready' && schema.owner;
  const names = operationNames(document);
  const chosen = names.includes(operation) ? operation : names[0];

  const run = useCallback(async () => {
    const parsed = parseVariables(variables);
    if (!parsed.ok) {
      setAnswer({ kind: 'refused', message: parsed.message });
      return;
    }
    running.current?.abort();
    const controller = new AbortController();
    running.current = controller;
    setAnswer({ kind: 'running' });
    const ask = { document, variables: parsed.variables, statements: owner, ...(names.length > 1 && chosen ? { operationName: chosen } : {}) };
    const outcome = await send(accessKey, ask, controller.signal);
    if (running.current !== controller) return;
    running.current = null;
    if (outcome.kind === 'unauthenticated') onRefused(outcome.message);
    else setAnswer(outcome);
  }, [accessKey, chosen, document, names.length, onRefused, owner, variables]);

  return (
    <Page $reading={reading}>
      <Header>
        <Brand>Puente</Brand>
        <span>Ask</span>
        <Space />
        {schema.kind === 'ready' && <span>{owner ? 'as owner' : 'as the role of this key'}</span>}
        <QuietButton
          aria-pressed={reading}
          onPress={() => {
            setReading(!reading);
          }}
        >
          {reading ? 'Hide schema' : 'Show schema'}
        </QuietButton>
        <QuietButton onPress={onLeave}>Leave</QuietButton>
      </Header>

      <Writing aria-label="The request">
        <Bar>
          <Button onPress={() => void run()} aria-keyshortcuts="Control+Enter">
            Run
          </Button>
          {names.length > 1 && (
            <label>
              Operation{' '}
              <select
                value={chosen}
                onChange={(event) => {
                  setOperation(event.target.value);
                }}
              >
                {names.map((name) => (
                  <option key={name}>{name}</option>
                ))}
              </select>
            </label>
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
          <DocumentSlot>
            <Editor
              label="Document"
              language="graphql"
              text={document}
              schema={schema.kind === 'ready' ? schema.schema : undefined}
              onChange={(text) => {
                setDocument(text);
                remember('document', text);
              }}
              onRun={() => void run()}
            />
          </DocumentSlot>
          <SlotTitle>Variables</SlotTitle>
          <VariablesSlot>
            <Editor
              label="Variables"
              language="json"
              text={variables}
              onChange={(text) => {
                setVariables(text);
                remember('variables', text);
              }}
              onRun={() => void run()}
            />
          </VariablesSlot>
        </Suspense>
      </Writing>

      <Answering aria-label="The answer" aria-live="polite">
        <AnswerPanel state={answer} owner={owner} />
      </Answering>

      {reading && (
        <Reading>
          {schema.kind === 'ready' && <Documentation schema={schema.schema} />}
          {schema.kind === 'loading' && <Hint>The schema is loading…</Hint>}
          {schema.kind === 'failed' && <Notice title="The schema could not be loaded">{schema.message}</Notice>}
        </Reading>
      )}
    </Page>
  );
}

const Page = styled.main<{ $reading: boolean }>`
  display: grid;
  height: 100%;
  grid-template-columns: minmax(300px, 5fr) minmax(320px, 6fr) ${({ $reading }) => ($reading ? 'minmax(220px, 3fr)' : '')};
  grid-template-rows: auto minmax(0, 1fr);
  gap: 1px;
  background: ${theme.line};
  > * { background: ${theme.surface}; min-width: 0; min-height: 0; }
  @media (max-width: 800px) {
    height: auto;
    grid-template-columns: 1fr;
    grid-template-rows: auto 70vh 70vh auto;
  }
`;

const Header = styled.header`
  grid-column: 1 / -1;
  display: flex;
  align-items: center;
  gap: 12px;
  padding: 8px 14px;
  background: ${theme.raised};
`;

const Brand = styled.h1`
  margin: 0;
  font-size: 16px;
  letter-spacing: 0.02em;
  color: ${theme.accent};
`;

const Space = styled.span`
  flex: 1;
`;

const Writing = styled.section`
  display: flex;
  flex-direction: column;
`;

const Bar = styled.div`
  display: flex;
  align-items: center;
  gap: 10px;
  padding: 8px 12px;
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
  margin: 0;
  padding: 5px 12px;
  font-size: 12px;
  font-weight: 600;
  color: ${theme.muted};
  background: ${theme.raised};
  border-block: 1px solid ${theme.line};
`;

const VariablesSlot = styled.div`
  height: 22%;
  min-height: 90px;
  overflow: auto;
`;

const Answering = styled.section`
  display: flex;
  flex-direction: column;
`;

const Reading = styled.aside`
  overflow: hidden;
`;
