import { useMutation, useQuery } from '@tanstack/react-query';
import { useNavigate, useSearch } from '@tanstack/react-router';
import { useState } from 'react';
import { Form } from 'react-aria-components';
import styled from 'styled-components';
import { theme } from '../../../app/theme';
import { readClaims } from '../../../lib/as';
import type { Action, ModelOverview, RowAccess, TypeSheet, WhoLine } from '../../../lib/interface';
import { get, post } from '../../../lib/project';
import { useType } from '../../../lib/queries';
import { useSession } from '../../../lib/session';
import { Button } from '../../../ui/Button';
import { Select, TextField } from '../../../ui/fields';
import { Faint, Panel, Row, Stack, Word } from '../../../ui/layout';
import { Notice } from '../../../ui/Notice';
import { RoleMark } from '../../../ui/RoleMark';
import { Answered } from '../../../ui/states';

/** Which roles may read or change a field or a row, and by which line. */
export function WhoCan({ model }: { model: ModelOverview }) {
  const search = useSearch({ from: '/access' });
  const navigate = useNavigate();
  const chosen = model.types.find((type) => type.name === search.type) ?? model.types[0];
  const sheet = useType(chosen?.name);
  if (!chosen) return <Faint>There is no type.</Faint>;
  return (
    <Stack>
      <Chooser>
        <Select
          label="Type"
          value={chosen.name}
          options={model.types.map((type) => ({ id: type.name, text: type.name }))}
          onChange={(type) => {
            void navigate({ from: '/access', search: (before) => ({ ...before, tab: 'who', type, field: undefined }) });
          }}
        />
      </Chooser>
      <Answered query={sheet} what={`The type ${chosen.name}`}>
        {(sheet) => (
          <Both>
            <FieldQuestion sheet={sheet} field={search.field} />
            <RowQuestion key={sheet.name} sheet={sheet} />
          </Both>
        )}
      </Answered>
    </Stack>
  );
}

function FieldQuestion({ sheet, field }: { sheet: TypeSheet; field: string | undefined }) {
  const { key } = useSession();
  const navigate = useNavigate();
  const names = [
    ...sheet.columns.filter((column) => column.field).map((column) => column.label),
    ...sheet.links.map((link) => link.field),
  ];
  const chosen = field !== undefined && names.includes(field) ? field : names[0];
  const who = useQuery({
    queryKey: ['project', 'who', sheet.name, chosen],
    queryFn: ({ signal }) =>
      get(key, '/project/access/who', { query: { type: sheet.name, field: chosen ?? '' } }, signal),
    enabled: chosen !== undefined,
  });
  return (
    <Panel title="Who can see or change a field?">
      <Stack $gap={8}>
        <Chooser>
          <Select
            label="Field"
            value={chosen ?? null}
            options={names.map((name) => ({ id: name, text: name }))}
            onChange={(field) => {
              void navigate({
                from: '/access',
                search: (before) => ({ ...before, tab: 'who', type: sheet.name, field }),
              });
            }}
          />
        </Chooser>
        <Answered query={who} what="Who can">
          {(lines) =>
            lines.length === 0 ? (
              <p>
                Nobody but the owner: no role was granted {sheet.name}.{chosen}.
              </p>
            ) : (
              <Lines lines={lines} />
            )
          }
        </Answered>
      </Stack>
    </Panel>
  );
}

function Lines({ lines }: { lines: WhoLine[] }) {
  const { me } = useSession();
  return (
    <List>
      {lines.map((line, index) => (
        <li key={index}>
          <Row $gap={6}>
            <RoleMark role={line.role} roles={me.roles} />
            <strong>{line.role}</strong>
            <span>
              may {line.action}{' '}
              {line.rows ? (
                <>
                  rows where <code>{line.rows}</code>
                </>
              ) : (
                'every row'
              )}
            </span>
          </Row>
          {line.parts.length > 0 && <Faint>of it {line.parts.join(', ')}</Faint>}
          {line.masks.map((mask) => (
            <Faint key={mask.field}>
              {mask.field} only where <code>{mask.rule}</code>
            </Faint>
          ))}
          <Faint>
            {line.section}, line {line.line}
          </Faint>
        </li>
      ))}
    </List>
  );
}

function RowQuestion({ sheet }: { sheet: TypeSheet }) {
  const { key } = useSession();
  const columns = (sheet.keys.find((of) => of.total) ?? sheet.keys[0])?.columns ?? [];
  const [values, setValues] = useState<Record<string, string>>({});
  const [claims, setClaims] = useState('');
  const read = readClaims(claims);
  const asked = useMutation({
    mutationFn: () => {
      const kinds = new Map(sheet.columns.map((column) => [column.label, column.type]));
      const typed = Object.fromEntries(
        columns.map((name) => [name, typedValue(values[name] ?? '', kinds.get(name) ?? '')]),
      );
      return post(key, '/project/access/row', {
        type: sheet.name,
        key: typed as Record<string, never>,
        claims: (read.ok ? read.claims : {}) as Record<string, never>,
      });
    },
  });
  const isWhole = columns.every((name) => (values[name] ?? '') !== '');
  return (
    <Panel title="Who can see or change a row?">
      {columns.length === 0 ? (
        <Faint>Rows of {sheet.name} have no key by which one could be named.</Faint>
      ) : (
        <Form
          onSubmit={(event) => {
            event.preventDefault();
            if (isWhole && read.ok) asked.mutate();
          }}
        >
          <Stack $gap={8}>
            <Row $gap={12}>
              {columns.map((name) => (
                <TextField
                  key={name}
                  label={name}
                  value={values[name] ?? ''}
                  onChange={(value) => {
                    setValues({ ...values, [name]: value });
                  }}
                />
              ))}
            </Row>
            <TextField
              label="Claims of whoever is thought of"
              value={claims}
              onChange={setClaims}
              mono
              placeholder="sub=7"
              error={read.ok ? undefined : read.message}
            />
            <Row>
              <Button type="submit" isDisabled={!isWhole || !read.ok || asked.isPending}>
                Look
              </Button>
            </Row>
            {asked.error && <Notice title="It could not be looked up">{asked.error.message}</Notice>}
            {asked.data && <RowLines lines={asked.data} />}
          </Stack>
        </Form>
      )}
    </Panel>
  );
}

/** A value of a key as its scalar is written in JSON. */
function typedValue(text: string, type: string): string | number {
  return ['Int', 'Float'].includes(type.replace('!', '')) && text.trim() !== '' && Number.isFinite(Number(text))
    ? Number(text)
    : text;
}

const WORDS: Record<Action, string> = { read: 'read', create: 'create', update: 'change', delete: 'delete' };

function RowLines({ lines }: { lines: RowAccess[] }) {
  const { me } = useSession();
  if (lines.length === 0) return <p>Nobody but the owner may do anything with such a row.</p>;
  return (
    <List aria-live="polite">
      {lines.map((line, index) => (
        <li key={index}>
          <Row $gap={6}>
            <Word {...(line.allowed ? { $tone: 'done' as const } : {})}>{line.allowed ? 'yes' : 'no'}</Word>
            <RoleMark role={line.role} roles={me.roles} />
            <strong>{line.role}</strong>
            <span>
              {line.allowed ? 'may' : 'may not'} {WORDS[line.action]} it
            </span>
          </Row>
          {line.rule && <code>{line.rule}</code>}
          <Faint>
            {line.section}, line {line.line}
          </Faint>
        </li>
      ))}
    </List>
  );
}

const Chooser = styled.div`
  width: min(260px, 100%);
`;
const Both = styled.div`
  display: grid;
  grid-template-columns: 1fr 1fr;
  align-items: start;
  gap: 12px;
  @media (max-width: 900px) {
    grid-template-columns: minmax(0, 1fr);
  }
`;
const List = styled.ul`
  display: grid;
  gap: 6px;
  li {
    display: grid;
    gap: 2px;
    padding-bottom: 6px;
    border-bottom: 1px solid ${theme.line};
    overflow-wrap: anywhere;
  }
`;
