import { useMemo, useState } from 'react';
import styled from 'styled-components';
import { theme } from '../../app/theme';
import { isObject, type Json, type JsonObject } from '../../lib/client';
import { LinkButton } from '../Button';
import { DataTable, type DataColumn } from '../table/DataTable';
import { kindOfValues } from '../table/kinds';
import { Value } from '../table/Value';
import { at, columnsOf, rowsOf, shapeOf, type Shape } from './shape';

/** An answer as tables: one per root field; nested lists open where they stand, and say how many before. */
export function AnswerTable({
  data,
  document,
  operation,
}: {
  data: JsonObject;
  document: string;
  operation?: string | undefined;
}) {
  const shape = useMemo(() => shapeOf(document, operation), [document, operation]);
  return (
    <>
      {Object.entries(data).map(([name, value]) => (
        <section key={name} aria-label={name}>
          <Title>{name}</Title>
          <Rows name={name} value={value} shape={shape?.get(name) ?? null} />
        </section>
      ))}
    </>
  );
}

function Rows({ name, value, shape }: { name: string; value: Json; shape: Shape | null }) {
  const found = shape === null ? null : rowsOf(value, shape);
  const [open, setOpen] = useState<string | null>(null);
  const rows = useMemo(
    () => found?.rows ?? (isObject(value) && shape !== null ? [value] : null),
    [found?.rows, shape, value],
  );
  const rowShape = found ? found.shape : shape;
  const columns = useMemo(() => (rows === null ? [] : columnsOf(rows, rowShape)), [rowShape, rows]);
  if (rows === null) return <Value value={value} kind={kindOfValues([value])} whole />;
  const defined = columns.map((column): DataColumn<Json> => {
    const id = column.path.length === 0 ? 'value' : column.path.join('.');
    const values = rows.slice(0, 200).map((row) => at(row, column.path));
    return {
      id,
      kind: column.nested ? 'text' : kindOfValues(values),
      value: (row) => at(row, column.path),
      ...(column.nested
        ? {
            cell: (row: Json, index: number) => {
              const inner = at(row, column.path);
              const nested = inner === undefined || inner === null ? null : rowsOf(inner, column.shape);
              if (nested === null) return <Value value={inner} kind="text" />;
              const here = `${String(index)} ${id}`;
              return (
                <LinkButton
                  aria-expanded={open === here}
                  onPress={() => {
                    setOpen(open === here ? null : here);
                  }}
                >
                  {open === here ? '▾' : '▸'} {nested.rows.length} {nested.rows.length === 1 ? 'row' : 'rows'}
                </LinkButton>
              );
            },
          }
        : {}),
    };
  });
  const opened = columns.find((column) => open?.slice(open.indexOf(' ') + 1) === column.path.join('.'));
  return (
    <Block>
      {rows.length === 0 ? (
        <Faint>no rows</Faint>
      ) : (
        <Framed $tall={rows.length > MANY}>
          <DataTable
            scrolls={rows.length > MANY}
            label={name}
            remember={`answer.${name}`}
            columns={defined}
            rows={rows}
            below={(row, index) => {
              if (opened === undefined || open !== `${String(index)} ${opened.path.join('.')}`) return null;
              const inner = at(row, opened.path);
              return inner === undefined || inner === null ? null : (
                <section aria-label={`${opened.path.join('.')} of row ${String(index + 1)}`}>
                  <Faint>{opened.path.join('.')}</Faint>
                  <Rows name={opened.path.join('.')} value={inner} shape={opened.shape} />
                </section>
              );
            }}
          />
        </Framed>
      )}
      {found?.beside.map(([label, beside]) => (
        <Faint key={label}>
          {label}: {typeof beside === 'object' ? JSON.stringify(beside) : String(beside)}
        </Faint>
      ))}
    </Block>
  );
}

/** Rows from which on a list scrolls by itself, and only those in sight are drawn. */
const MANY = 200;

const Framed = styled.div<{ $tall: boolean }>`
  ${({ $tall }) => ($tall ? 'height: 60vh;' : '')}
`;
const Title = styled.h3`
  margin: 0 0 4px;
`;
const Block = styled.div`
  min-width: 0;
  margin-bottom: 8px;
`;
const Faint = styled.div`
  color: ${theme.muted};
  font-size: 12px;
  overflow-wrap: anywhere;
`;
