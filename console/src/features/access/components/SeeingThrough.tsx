import { useInfiniteQuery } from '@tanstack/react-query';
import { useNavigate, useSearch } from '@tanstack/react-router';
import { useMemo, useState } from 'react';
import styled from 'styled-components';
import { theme } from '../../../app/theme';
import { Claims } from '../../../app/AsSwitch';
import { claimsOf, useAs, useClaimsText } from '../../../lib/as';
import type { Json } from '../../../lib/client';
import { useEdits } from '../../../lib/edits';
import type { AccessOverview, ModelOverview, SeenRow, SeenRows } from '../../../lib/interface';
import { post } from '../../../lib/project';
import { useSession } from '../../../lib/session';
import { QuietButton } from '../../../ui/Button';
import { Select, Switch } from '../../../ui/fields';
import { Faint, Row, Stack } from '../../../ui/layout';
import { Notice } from '../../../ui/Notice';
import { RoleMark } from '../../../ui/RoleMark';
import { Empty, Failed, Loading } from '../../../ui/states';
import { DataTable, type DataColumn } from '../../../ui/table/DataTable';
import { grouped, kindOf } from '../../../ui/table/kinds';

/** A table's real rows, in which what a role cannot see is visibly withheld, with the rule that withholds it. */
export function SeeingThrough({ access, model }: { access: AccessOverview; model: ModelOverview }) {
  const { me } = useSession();
  const search = useSearch({ from: '/access' });
  const navigate = useNavigate();
  const as = useAs();
  const roles = access.roles.map((role) => role.name);
  const role = [search.role, as.role].find((name) => name !== undefined && roles.includes(name)) ?? roles[0];
  const type = model.types.find((type) => type.name === search.type)?.name ?? firstType(access, model, role);
  if (role === undefined || type === undefined)
    return <Empty title="There is no role to look through">The tab Roles makes one.</Empty>;
  const choose = (part: { role?: string; type?: string }) => {
    void navigate({ from: '/access', search: (before) => ({ ...before, tab: 'through', ...part }) });
  };
  return (
    <Whole>
      <Row $gap={16}>
        <Chooser>
          <Select
            label="Role"
            value={role}
            options={roles.map((name) => ({ id: name, text: name, mark: <RoleMark role={name} roles={me.roles} /> }))}
            onChange={(role) => {
              choose({ role });
            }}
          />
        </Chooser>
        <Chooser>
          <Select
            label="Type"
            value={type}
            options={model.types.map((type) => ({ id: type.name, text: type.name }))}
            onChange={(type) => {
              choose({ type });
            }}
          />
        </Chooser>
        <Claiming>
          <Claims role={role} />
        </Claiming>
      </Row>
      <Seen key={`${role} ${type}`} role={role} type={type} />
    </Whole>
  );
}

function firstType(access: AccessOverview, model: ModelOverview, role: string | undefined): string | undefined {
  const restricted = access.grants.find((grant) => grant.role === role && grant.action === 'read' && grant.rows);
  return restricted?.type ?? model.types[0]?.name;
}

function Seen({ role, type }: { role: string; type: string }) {
  const { key } = useSession();
  const { edits } = useEdits();
  const [claims] = useClaimsText(role);
  const [only, setOnly] = useState(false);
  const seen = useInfiniteQuery({
    queryKey: ['project', 'seen', role, type, claims, edits, only],
    initialPageParam: null as string | null,
    queryFn: ({ pageParam, signal }) =>
      post(
        key,
        '/project/access/seen',
        { role, type, claims: claimsOf(role) as Record<string, never>, edits, after: pageParam, onlySeen: only },
        signal,
      ),
    getNextPageParam: (page) => page.next ?? null,
    retry: false,
  });
  const first = seen.data?.pages[0];
  const rows = useMemo(() => seen.data?.pages.flatMap((page) => page.rows) ?? [], [seen.data]);
  const columns = useMemo(() => (first ? columnsOf(first, role) : []), [first, role]);
  if (seen.isError)
    return <Failed error={seen.error} what={`What ${role} sees of ${type}`} onRetry={() => void seen.refetch()} />;
  if (!first) return <Loading what={`What ${role} sees of ${type}`} />;
  const why = first.rule ? `not where ${first.rule}` : first.section ? '' : `role ${role} reads nothing of ${type}`;
  return (
    <>
      <Stack $gap={4}>
        <p role="status">
          {role} sees <strong>{grouped(first.visible.rows)}</strong> of {grouped(first.visible.of)} rows with these
          claims
          {edits.length > 0 ? ' and the gathered changes' : ''}.{' '}
          {first.section ? (
            <Faint>
              {first.section}, line {first.line}
              {first.rule ? (
                <>
                  : rows where <code>{first.rule}</code>
                </>
              ) : (
                ': every row'
              )}
            </Faint>
          ) : (
            <Faint>
              Nothing grants it: [role.{role}.{type}.read] would.
            </Faint>
          )}
        </p>
        {first.keyed && first.section && (
          <Switch checked={only} onChange={setOnly}>
            only the rows that {role} sees
          </Switch>
        )}
        {!first.keyed && (
          <Notice tone="attention" title="Rows without a key">
            They cannot be told apart: which of them the role sees is counted and not shown.
          </Notice>
        )}
      </Stack>
      <DataTable
        label={`${type} as ${role} sees it`}
        remember={`seen.${type}`}
        columns={columns}
        rows={rows}
        rowWithheld={(row) => (row.visible ? null : why)}
        scrolls
        after={
          seen.hasNextPage && (
            <QuietButton isDisabled={seen.isFetchingNextPage} onPress={() => void seen.fetchNextPage()}>
              More rows
            </QuietButton>
          )
        }
      />
    </>
  );
}

function columnsOf(seen: SeenRows, role: string): DataColumn<SeenRow>[] {
  return seen.columns.map((column, index) => ({
    id: column.field,
    kind: kindOf(column.type),
    value: (row) => row.cells[index] as Json | undefined,
    note: column.granted ? column.mask ? <Note>masked</Note> : null : <Note>not granted</Note>,
    withheld: (row) => {
      if (!row.withheld.includes(index)) return null;
      return column.granted ? `masked: only where ${column.mask ?? ''}` : `not granted to ${role}`;
    },
  }));
}

const Whole = styled.div`
  display: flex;
  flex-direction: column;
  gap: 8px;
  flex: 1;
  min-height: 320px;
  padding: 0 2px;
  > :last-child {
    flex: 1;
    min-height: 0;
    background: ${theme.surface};
    border: 1px solid ${theme.line};
    border-radius: 4px 4px 0 0;
  }
`;
const Chooser = styled.div`
  width: 200px;
`;
const Claiming = styled.div`
  flex: 1 1 240px;
`;
const Note = styled.span`
  display: block;
  font-size: 12px;
  font-weight: 400;
`;
