import { useQuery } from '@tanstack/react-query';
import { Link, useNavigate, useSearch } from '@tanstack/react-router';
import styled from 'styled-components';
import { theme } from '../../../app/theme';
import type { SurveyedColumn, SurveyedShape, SurveyedSource, SurveyedTable } from '../../../lib/interface';
import { get } from '../../../lib/project';
import { useSession } from '../../../lib/session';
import { LinkButton } from '../../../ui/Button';
import { Faint, Panel, Stack, Word } from '../../../ui/layout';
import { Answered } from '../../../ui/states';
import { grouped } from '../../../ui/table/kinds';

/** Per source its tables and collections: rows, columns, keys, and what refers to what. A table opens to its columns. */
export function Tables({ sources }: { sources: SurveyedSource[] }) {
  return (
    <Stack>
      {sources.map((source) => (
        <Panel key={source.name} title={`${source.name} (${source.engine})`}>
          {!source.surveyed && <Faint>It was never surveyed.</Faint>}
          {source.surveyed && source.tables.length === 0 && <Faint>It has no tables.</Faint>}
          {source.tables.length > 0 && <SourceTables source={source} />}
        </Panel>
      ))}
    </Stack>
  );
}

function SourceTables({ source }: { source: SurveyedSource }) {
  const open = useSearch({ from: '/survey' });
  const navigate = useNavigate();
  return (
    <Scroll>
      <Grid>
        <caption className="visually-hidden">Tables of {source.name}</caption>
        <thead>
          <tr>
            <th scope="col">table</th>
            <th scope="col">type</th>
            <th scope="col" className="right">
              rows
            </th>
            <th scope="col" className="right">
              columns
            </th>
            <th scope="col">key</th>
            <th scope="col">refers to</th>
          </tr>
        </thead>
        <tbody>
          {source.tables.map((table) => {
            const isOpen = open.source === source.name && open.table === table.name;
            return (
              <TableRow
                key={table.name}
                source={source.name}
                table={table}
                isOpen={isOpen}
                onOpen={() => {
                  const search = isOpen
                    ? { source: undefined, table: undefined }
                    : { source: source.name, table: table.name };
                  void navigate({ from: '/survey', search: (before) => ({ ...before, tab: 'tables', ...search }) });
                }}
              />
            );
          })}
        </tbody>
      </Grid>
    </Scroll>
  );
}

function TableRow({
  source,
  table,
  isOpen,
  onOpen,
}: {
  source: string;
  table: SurveyedTable;
  isOpen: boolean;
  onOpen: () => void;
}) {
  const keys = table.primaryKey.length > 0 ? table.primaryKey.join(', ') : '';
  return (
    <>
      <tr>
        <th scope="row">
          <LinkButton aria-expanded={isOpen} onPress={onOpen}>
            {table.name}
          </LinkButton>{' '}
          {table.view && <Word>view</Word>}
        </th>
        <td>
          {table.type ? (
            <Link to="/model" search={{ type: table.type }}>
              {table.type}
            </Link>
          ) : (
            <Faint>left out</Faint>
          )}
        </td>
        <td className="right">
          {table.view ? '' : table.aboutRows == null ? <Faint>not counted</Faint> : `~${grouped(table.aboutRows)}`}
        </td>
        <td className="right">{table.columns}</td>
        <td>
          {keys === '' ? <Faint>none</Faint> : keys}
          {table.uniqueKeys.length > 0 && <Faint> · {table.uniqueKeys.map((key) => key.join(', ')).join(' · ')}</Faint>}
        </td>
        <td>{table.foreignKeys.map((key) => `${key.columns.join(', ')} → ${key.table}`).join(' · ')}</td>
      </tr>
      {isOpen && (
        <tr>
          <td colSpan={6} className="open">
            <Columns source={source} table={table.name} />
          </td>
        </tr>
      )}
    </>
  );
}

function Columns({ source, table }: { source: string; table: string }) {
  const { key } = useSession();
  const columns = useQuery({
    queryKey: ['project', 'columns', source, table],
    queryFn: ({ signal }) => get(key, '/project/tables/{source}/{table}', { path: { source, table } }, signal),
  });
  return (
    <Answered query={columns} what={`The columns of ${table}`}>
      {(found) => (
        <Grid>
          <caption className="visually-hidden">Columns of {table}</caption>
          <thead>
            <tr>
              <th scope="col">column</th>
              <th scope="col">declared</th>
              <th scope="col">scalar</th>
              <th scope="col">null</th>
              <th scope="col">remarks</th>
            </tr>
          </thead>
          <tbody>
            {found.columns.map((column) => (
              <ColumnRow key={column.name} column={column} />
            ))}
          </tbody>
        </Grid>
      )}
    </Answered>
  );
}

function ColumnRow({ column }: { column: SurveyedColumn }) {
  return (
    <tr>
      <th scope="row">{column.name}</th>
      <td>{column.declared === '' ? <Faint>none</Faint> : column.declared}</td>
      <td>{column.list ? `[${column.scalar}]` : column.scalar}</td>
      <td>{column.nullable ? 'may be' : 'never'}</td>
      <td>
        {[column.comment, column.notice].filter((text) => text).join(' · ')}
        {column.shape && column.shape.members.length > 0 && (
          <details>
            <summary>
              {column.shape.what}, {column.samples} samples
            </summary>
            <ShapeTree shape={column.shape} />
          </details>
        )}
      </td>
    </tr>
  );
}

/** What JSON is made of, as a tree. */
function ShapeTree({ shape }: { shape: SurveyedShape }) {
  return (
    <TreeList>
      {shape.members.map((member) => (
        <li key={member.name}>
          <code>{member.name}</code> {member.what}
          {member.share < 100 && <Faint>, in {member.share} %</Faint>}
          {member.nullable && <Faint>, or null</Faint>}
          {member.mixed && <Word $tone="attention">several types</Word>}
          {member.members.length > 0 && <ShapeTree shape={member} />}
        </li>
      ))}
    </TreeList>
  );
}

const Scroll = styled.div`
  overflow-x: auto;
`;
const Grid = styled.table`
  width: 100%;
  min-width: 720px;
  border-collapse: collapse;
  th,
  td {
    padding: 4px 12px 4px 0;
    text-align: left;
    vertical-align: top;
    border-bottom: 1px solid ${theme.line};
  }
  thead th {
    color: ${theme.muted};
    font-weight: 600;
    white-space: nowrap;
  }
  tbody th {
    font-weight: 400;
    white-space: nowrap;
  }
  .right {
    text-align: right;
    white-space: nowrap;
  }
  .open {
    padding: 4px 12px 12px 24px;
    background: ${theme.raised};
  }
  a {
    color: ${theme.accent};
  }
`;
const TreeList = styled.ul`
  padding-left: 12px;
  border-left: 1px solid ${theme.line};
  li {
    padding: 1px 0;
  }
`;
