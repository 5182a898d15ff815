import { useNavigate, useSearch } from '@tanstack/react-router';
import { useCallback, useMemo, useState } from 'react';
import styled from 'styled-components';
import { useAs } from '../../lib/as';
import type { ModelOverview } from '../../lib/interface';
import { useAccess, useModel } from '../../lib/queries';
import { useSession } from '../../lib/session';
import { useKept } from '../../lib/store';
import { QuietButton } from '../../ui/Button';
import { Select, Switch, TextField } from '../../ui/fields';
import { Page, Row } from '../../ui/layout';
import { Answered, Empty, Forbidden } from '../../ui/states';
import { Diagram } from './components/Diagram';
import { LinkSheet } from './components/LinkSheet';
import { TypeList } from './components/TypeList';
import { TypeSheet } from './components/TypeSheet';
import { joinTables, linesOf, neighbours } from './layout';
import { seenBy } from './model';

/** The types and how they hang together: as a diagram, or as a list; each type with a sheet of its own. */
export function ModelPage() {
  const { me } = useSession();
  const model = useModel();
  if (!me.owner) {
    return (
      <Page title="Model">
        <Forbidden>
          The whole model is the owner&apos;s. What your role may ask is on the page Ask, in its schema.
        </Forbidden>
      </Page>
    );
  }
  return (
    <Answered query={model} what="The model">
      {(model) => (model.types.length === 0 && model.hidden.length === 0 ? <Nothing /> : <Model model={model} />)}
    </Answered>
  );
}

function Nothing() {
  return (
    <Page title="Model">
      <Empty title="There are no types yet">The page Start leads from a database&apos;s address to types.</Empty>
    </Page>
  );
}

function Model({ model }: { model: ModelOverview }) {
  const search = useSearch({ from: '/model' });
  const navigate = useNavigate();
  const { role, isOwner } = useAs();
  const access = useAccess();
  const [letters, setLetters] = useState('');
  const [joins, setJoins] = useKept('browser', 'model.joins', false);
  const go = useCallback(
    (part: Record<string, string | undefined>) => {
      void navigate({ from: '/model', search: (before) => ({ ...before, ...part }) });
    },
    [navigate],
  );
  const open = useCallback(
    (type: string) => {
      go({ type });
    },
    [go],
  );
  const view = search.view === 'list' ? 'list' : 'diagram';
  const steps = search.steps === '2' ? 2 : 1;
  const focus = model.types.some((type) => type.name === search.focus) ? search.focus : undefined;
  const between = useMemo(() => joinTables(model), [model]);
  const shown = useMemo(() => {
    const all = model.types.filter((type) => joins || !between.has(type.name) || type.name === focus);
    if (focus === undefined) return all;
    const near = neighbours(linesOf(all), focus, steps);
    return all.filter((type) => near.has(type.name));
  }, [between, focus, joins, model.types, steps]);
  const seen = useMemo(
    () => (isOwner || !access.data ? null : seenBy(access.data, role)),
    [access.data, isOwner, role],
  );
  const links = model.types.reduce((sum, type) => sum + type.links.length, 0);
  const says = [
    `${String(model.types.length)} types and ${String(links)} links from ${model.sources.length === 1 ? '1 source' : `${String(model.sources.length)} sources`}`,
    model.hidden.length === 0
      ? null
      : model.hidden.length === 1
        ? '1 table left out'
        : `${String(model.hidden.length)} tables left out`,
    seen ? `${role} sees ${String(model.types.filter((type) => seen.has(type.name)).length)} of them` : null,
  ];
  return (
    <Page
      title="Model"
      says={says.filter((part) => part !== null).join('; ')}
      actions={
        <Row>
          <QuietButton
            aria-pressed={view === 'diagram'}
            onPress={() => {
              go({ view: undefined });
            }}
          >
            Diagram
          </QuietButton>
          <QuietButton
            aria-pressed={view === 'list'}
            onPress={() => {
              go({ view: 'list' });
            }}
          >
            List
          </QuietButton>
        </Row>
      }
    >
      <Whole>
        <Tools>
          <Finding>
            <TextField
              label="Find a type or table"
              hideLabel
              placeholder="Find a type or table"
              type="search"
              value={letters}
              onChange={setLetters}
            />
          </Finding>
          {view === 'diagram' && (
            <>
              <Focusing>
                <Select
                  label="Focus on a type"
                  hideLabel
                  value={focus ?? 'everything'}
                  options={[
                    { id: 'everything', text: 'every type' },
                    ...model.types.map((type) => ({ id: type.name, text: `around ${type.name}` })),
                  ]}
                  onChange={(chosen) => {
                    go({ focus: chosen === 'everything' ? undefined : chosen });
                  }}
                />
              </Focusing>
              {focus !== undefined && (
                <Switch
                  checked={steps === 2}
                  onChange={(two) => {
                    go({ steps: two ? '2' : undefined });
                  }}
                >
                  two steps
                </Switch>
              )}
              {between.size > 0 && (
                <Switch checked={joins} onChange={setJoins}>
                  join tables
                </Switch>
              )}
            </>
          )}
        </Tools>
        {view === 'diagram' ? (
          <Diagram
            key={focus ?? 'everything'}
            types={shown}
            letters={letters}
            focus={focus}
            seen={seen}
            remember={focus === undefined}
            onOpen={open}
            onLink={(from, to) => {
              go({ link: `${from}>${to}` });
            }}
          />
        ) : (
          <TypeList model={model} letters={letters} seen={seen} onOpen={open} />
        )}
      </Whole>
      {search.type !== undefined && search.link === undefined && (
        <TypeSheet
          name={search.type}
          model={model}
          onClose={() => {
            go({ type: undefined, tab: undefined });
          }}
        />
      )}
      {search.link !== undefined && (
        <LinkSheet
          link={search.link}
          model={model}
          onClose={() => {
            go({ link: undefined });
          }}
        />
      )}
    </Page>
  );
}

const Whole = styled.div`
  display: flex;
  flex-direction: column;
  height: 100%;
`;
const Tools = styled.div`
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 6px 12px;
  padding: 6px 16px;
`;
const Finding = styled.div`
  flex: 0 1 220px;
`;
const Focusing = styled.div`
  flex: 0 1 200px;
`;
