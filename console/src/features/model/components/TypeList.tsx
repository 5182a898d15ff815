import { useMemo } from 'react';
import styled from 'styled-components';
import { theme } from '../../../app/theme';
import { useEdits } from '../../../lib/edits';
import type { ModelOverview, TypeOverview } from '../../../lib/interface';
import { useSession } from '../../../lib/session';
import { QuietButton } from '../../../ui/Button';
import { Faint, Row } from '../../../ui/layout';
import { DataTable, type DataColumn } from '../../../ui/table/DataTable';

interface Props {
  model: ModelOverview;
  letters: string;
  seen: Map<string, Set<string>> | null;
  onOpen: (type: string) => void;
}

/** The same as the diagram, as text: every type with what it is linked to, and the tables that are left out. */
export function TypeList({ model, letters, seen, onOpen }: Props) {
  const { me } = useSession();
  const { add } = useEdits();
  const wanted = letters.trim().toLowerCase();
  const types = useMemo(
    () =>
      model.types.filter(
        (type) =>
          wanted === '' || type.name.toLowerCase().includes(wanted) || type.table.toLowerCase().includes(wanted),
      ),
    [model.types, wanted],
  );
  const columns: DataColumn<TypeOverview>[] = useMemo(
    () => [
      {
        id: 'type',
        kind: 'text',
        value: (type) => type.name,
        cell: (type) => (
          <Open
            type="button"
            onClick={() => {
              onOpen(type.name);
            }}
          >
            {type.name}
          </Open>
        ),
      },
      { id: 'table', kind: 'text', value: (type) => type.table },
      { id: 'source', kind: 'text', value: (type) => type.source },
      { id: 'rows', kind: 'number', value: (type) => (type.view ? null : (type.aboutRows ?? null)) },
      { id: 'fields', kind: 'number', value: (type) => type.fields.length },
      {
        id: 'links',
        kind: 'text',
        value: (type) =>
          type.links.map((link) => `${link.field} → ${link.target}${link.many ? ' (many)' : ''}`).join(', '),
      },
      { id: 'description', kind: 'text', value: (type) => type.description ?? undefined },
    ],
    [onOpen],
  );
  return (
    <Whole>
      <DataTable
        label="Types"
        remember="types"
        columns={columns}
        rows={types}
        rowWithheld={(type) => (seen !== null && !seen.has(type.name) ? 'not granted to this role' : null)}
        scrolls
      />
      {model.hidden.length > 0 && (
        <Left aria-label="Tables that are left out">
          <h2>Left out</h2>
          <ul>
            {model.hidden.map((table) => (
              <li key={`${table.source} ${table.table}`}>
                <Row>
                  {table.table} <Faint>of {table.source}</Faint>
                  {me.editing && (
                    <QuietButton
                      aria-label={`Take it in: ${table.table}`}
                      onPress={() => {
                        add({ kind: 'setType', table: table.table, setting: { property: 'hidden', value: false } });
                      }}
                    >
                      Take it in
                    </QuietButton>
                  )}
                </Row>
              </li>
            ))}
          </ul>
        </Left>
      )}
    </Whole>
  );
}

const Whole = styled.div`
  display: flex;
  flex-direction: column;
  flex: 1;
  min-height: 0;
  > :first-child {
    flex: 1;
    min-height: 0;
    background: ${theme.surface};
    border-top: 1px solid ${theme.line};
  }
`;
/** A thousand of them are drawn quickly. */
const Open = styled.button`
  padding: 0;
  color: ${theme.accent};
  background: none;
  border: 0;
  text-decoration: underline;
  text-decoration-color: ${theme.line};
  cursor: pointer;
`;
const Left = styled.section`
  max-height: 30%;
  overflow: auto;
  padding: 8px 16px;
  border-top: 1px solid ${theme.line};
`;
