import { useState } from 'react';
import styled from 'styled-components';
import { theme } from '../../../app/theme';
import type { Json, JsonObject } from '../../../lib/client';
import { LinkButton } from '../../../ui/Button';
import { columnsOf, flatten, rowsOf } from '../model';

/** An answer as tables: one per root field; nested lists can be opened where they stand. */
export function AnswerTable({ data }: { data: JsonObject }) {
  return (
    <>
      {Object.entries(data).map(([name, value]) => (
        <section key={name} aria-label={name}>
          <Title>{name}</Title>
          <Value name={name} value={value} />
        </section>
      ))}
    </>
  );
}

function Value({ name, value }: { name: string; value: Json }) {
  const found = rowsOf(value);
  if (found === null) {
    return value !== null && typeof value === 'object' ? <RowTable name={name} rows={[value]} /> : <Leaf value={value} />;
  }
  return (
    <>
      {found.rows.length === 0 ? <Faint>no rows</Faint> : <RowTable name={name} rows={found.rows} />}
      {found.beside.map(([label, beside]) => (
        <Faint key={label}>
          {label}: {typeof beside === 'object' ? JSON.stringify(beside) : String(beside)}
        </Faint>
      ))}
    </>
  );
}

function RowTable({ name, rows }: { name: string; rows: Json[] }) {
  const columns = columnsOf(rows);
  return (
    <Table>
      <caption className="visually-hidden">{name}</caption>
      <thead>
        <tr>
          {columns.map((column) => (
            <th key={column} scope="col">
              {column}
            </th>
          ))}
        </tr>
      </thead>
      <tbody>
        {rows.map((row, index) => (
          <Row key={index} row={row} columns={columns} />
        ))}
      </tbody>
    </Table>
  );
}

function Row({ row, columns }: { row: Json; columns: string[] }) {
  const [open, setOpen] = useState<string | null>(null);
  const cells = new Map(flatten(row));
  const opened = open === null ? undefined : cells.get(open);
  return (
    <>
      <tr>
        {columns.map((column) => {
          const value = cells.get(column);
          const nested = value === undefined ? null : rowsOf(value);
          return (
            <td key={column}>
              {value === undefined ? null : nested === null ? (
                <Leaf value={value} />
              ) : (
                <LinkButton
                  aria-expanded={open === column}
                  onPress={() => {
                    setOpen(open === column ? null : column);
                  }}
                >
                  {open === column ? '▾' : '▸'} {nested.rows.length} {nested.rows.length === 1 ? 'row' : 'rows'}
                </LinkButton>
              )}
            </td>
          );
        })}
      </tr>
      {open !== null && opened !== undefined && (
        <tr>
          <Nested colSpan={columns.length}>
            <Faint>{open}</Faint>
            <Value name={open} value={opened} />
          </Nested>
        </tr>
      )}
    </>
  );
}

function Leaf({ value }: { value: Json }) {
  if (value === null) return <Faint as="span">null</Faint>;
  return <>{typeof value === 'object' ? JSON.stringify(value) : String(value)}</>;
}

const Title = styled.h3`
  margin: 0 0 6px;
  font-size: 14px;
`;

const Faint = styled.div`
  color: ${theme.muted};
  font-size: 12px;
`;

const Table = styled.table`
  border-collapse: collapse;
  margin-bottom: 8px;
  th, td { padding: 4px 12px 4px 8px; text-align: left; vertical-align: top; border-bottom: 1px solid ${theme.line}; }
  th { color: ${theme.muted}; font-weight: 600; white-space: nowrap; position: sticky; top: -12px; background: ${theme.surface}; }
  td { max-width: 340px; overflow-wrap: anywhere; }
`;

const Nested = styled.td`
  padding-left: 24px !important;
  background: ${theme.raised};
  th { background: ${theme.raised}; }
`;
