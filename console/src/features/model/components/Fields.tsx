import { useState } from 'react';
import { Form } from 'react-aria-components';
import styled from 'styled-components';
import { hatched, theme } from '../../../app/theme';
import { useEdits } from '../../../lib/edits';
import type { ColumnSheet, TypeSheet } from '../../../lib/interface';
import { useSession } from '../../../lib/session';
import { Button, IconButton, QuietButton } from '../../../ui/Button';
import { Effect } from '../../../ui/Effect';
import { Switch, TextField } from '../../../ui/fields';
import { Icon } from '../../../ui/Icon';
import { Faint, Row, Stack, Word } from '../../../ui/layout';
import { fieldEdits, fieldForm, isSeen } from '../model';

/** The columns of a type with their fields; each is renamed, described, hidden and shown here. */
export function Fields({ sheet, seen }: { sheet: TypeSheet; seen: Set<string> | null }) {
  const { me } = useSession();
  const { edits } = useEdits();
  const [open, setOpen] = useState<string | null>(null);
  const isChanged = (column: ColumnSheet) =>
    edits.some(
      (edit) =>
        edit.kind === 'setField' &&
        edit.table === sheet.table &&
        edit.column === column.name &&
        (edit.member ?? '') === (column.member ?? ''),
    );
  return (
    <Scroll>
      <Table>
        <caption className="visually-hidden">Fields of {sheet.name}</caption>
        <thead>
          <tr>
            <th scope="col">field</th>
            <th scope="col">type</th>
            <th scope="col">column</th>
            <th scope="col">null</th>
            <th scope="col">description</th>
            {me.editing && (
              <th scope="col">
                <span className="visually-hidden">edit</span>
              </th>
            )}
          </tr>
        </thead>
        <tbody>
          {sheet.columns.map((column) => {
            const id = `${column.name}/${column.member ?? ''}`;
            const inside = column.label.split('.').length - 1;
            const unseen = seen !== null && !isSeen(seen, column.label);
            return (
              <FieldRows
                key={id}
                isOpen={open === id}
                form={
                  open === id ? (
                    <FieldEditor
                      sheet={sheet}
                      column={column}
                      onDone={() => {
                        setOpen(null);
                      }}
                    />
                  ) : null
                }
              >
                <tr className={unseen ? 'unseen' : ''}>
                  <th scope="row" style={{ paddingLeft: 8 + inside * 14 }}>
                    {column.field ?? <Faint>left out</Faint>} {column.key && <Word>key</Word>}{' '}
                    {isChanged(column) && <Word $tone="attention">changed</Word>}
                    {unseen && <span className="visually-hidden"> (not seen)</span>}
                  </th>
                  <td>
                    {column.type}
                    {(column.values ?? []).length > 0 && <Faint> {(column.values ?? []).join(', ')}</Faint>}
                  </td>
                  <td>
                    {column.member ? <Faint>{column.member}</Faint> : column.name}
                    {column.declared ? <Faint> {column.declared}</Faint> : null}
                  </td>
                  <td>{column.computed ? 'computed' : column.nullable ? 'may be' : 'never'}</td>
                  <td className="text">{column.description ?? ''}</td>
                  {me.editing && (
                    <td>
                      <IconButton
                        aria-label={`Edit ${column.label}`}
                        aria-expanded={open === id}
                        onPress={() => {
                          setOpen(open === id ? null : id);
                        }}
                      >
                        <Icon name="edit" />
                      </IconButton>
                    </td>
                  )}
                </tr>
              </FieldRows>
            );
          })}
        </tbody>
      </Table>
    </Scroll>
  );
}

function FieldRows({ children, form, isOpen }: { children: React.ReactNode; form: React.ReactNode; isOpen: boolean }) {
  return (
    <>
      {children}
      {isOpen && (
        <tr>
          <td colSpan={6} className="form">
            {form}
          </td>
        </tr>
      )}
    </>
  );
}

function FieldEditor({ sheet, column, onDone }: { sheet: TypeSheet; column: ColumnSheet; onDone: () => void }) {
  const { add } = useEdits();
  const [form, setForm] = useState(() => fieldForm(column));
  const edits = fieldEdits(sheet, column, form);
  const bad =
    form.name !== '' && !/^[A-Za-z_][A-Za-z0-9_]*$/.test(form.name)
      ? 'Letters, digits and _, not beginning with a digit.'
      : undefined;
  return (
    <Form
      onSubmit={(event) => {
        event.preventDefault();
        if (edits.length === 0 || bad) return;
        add(...edits);
        onDone();
      }}
    >
      <Stack $gap={8}>
        <Pair>
          <TextField
            label={`Name of ${column.label}`}
            value={form.name}
            placeholder={column.field ?? ''}
            onChange={(name) => {
              setForm({ ...form, name });
            }}
            error={bad}
            autoFocus
          />
          <TextField
            label="Description"
            value={form.description}
            onChange={(description) => {
              setForm({ ...form, description });
            }}
          />
        </Pair>
        <Row $gap={16}>
          <Switch
            checked={form.hidden}
            onChange={(hidden) => {
              setForm({ ...form, hidden });
            }}
          >
            left out of the API
          </Switch>
          {column.shape && (
            <Switch
              checked={form.shape}
              onChange={(shape) => {
                setForm({ ...form, shape });
              }}
            >
              types for its JSON
            </Switch>
          )}
        </Row>
        {bad === undefined && <Effect edits={edits} />}
        <Row>
          <Button type="submit" isDisabled={edits.length === 0 || bad !== undefined}>
            Add to the changes
          </Button>
          <QuietButton onPress={onDone}>Leave it</QuietButton>
        </Row>
      </Stack>
    </Form>
  );
}

const Scroll = styled.div`
  overflow-x: auto;
`;
const Table = styled.table`
  width: 100%;
  border-collapse: collapse;
  th,
  td {
    padding: 3px 12px 3px 8px;
    text-align: left;
    vertical-align: top;
    border-bottom: 1px solid ${theme.line};
  }
  thead th {
    color: ${theme.muted};
    font-weight: 600;
  }
  tbody th {
    font-weight: 600;
    white-space: nowrap;
  }
  button {
    min-height: 20px;
    padding: 1px;
  }
  .form button {
    min-height: 28px;
    padding: 4px 12px;
  }
  .text {
    overflow-wrap: anywhere;
    min-width: 120px;
  }
  .form {
    padding: 8px 12px 12px;
    background: ${theme.raised};
  }
  tr.unseen > * {
    background-image: ${hatched};
  }
`;
const Pair = styled.div`
  display: grid;
  grid-template-columns: 220px minmax(0, 1fr);
  gap: 12px;
  @media (max-width: 700px) {
    grid-template-columns: minmax(0, 1fr);
  }
`;
