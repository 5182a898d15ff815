import { useState } from 'react';
import { Form } from 'react-aria-components';
import styled from 'styled-components';
import { useEdits } from '../../../lib/edits';
import type { TypeSheet } from '../../../lib/interface';
import { useSession } from '../../../lib/session';
import { Button, DangerButton } from '../../../ui/Button';
import { Effect } from '../../../ui/Effect';
import { Select, TextField } from '../../../ui/fields';
import { Faint, Row, Stack, Word } from '../../../ui/layout';
import { typeEdits, typeForm } from '../model';

/** What a type is called, described, and told apart by; and whether it is in the API at all. */
export function About({ sheet }: { sheet: TypeSheet }) {
  const { me } = useSession();
  const { add } = useEdits();
  const [form, setForm] = useState(() => typeForm(sheet));
  const edits = typeEdits(sheet, form);
  const set = (part: Partial<typeof form>) => {
    setForm({ ...form, ...part });
  };
  const columns = sheet.columns.filter((column) => !column.member);
  return (
    <Stack>
      <Form
        onSubmit={(event) => {
          event.preventDefault();
          if (edits.length > 0) add(...edits);
        }}
      >
        <Stack $gap={8}>
          <Three>
            <TextField
              label="Type"
              value={form.name}
              placeholder={sheet.name}
              disabled={!me.editing}
              onChange={(name) => {
                set({ name });
              }}
            />
            <TextField
              label="Field that finds one"
              value={form.one}
              placeholder={sheet.one}
              disabled={!me.editing}
              onChange={(one) => {
                set({ one });
              }}
            />
            <TextField
              label="Field that lists many"
              value={form.list}
              placeholder={sheet.list}
              disabled={!me.editing}
              onChange={(list) => {
                set({ list });
              }}
            />
          </Three>
          <TextField
            label="Description"
            value={form.description}
            placeholder={sheet.description ?? ''}
            disabled={!me.editing}
            lines={2}
            onChange={(description) => {
              set({ description });
            }}
          />
          <Version>
            <Select
              label="Column that makes a row's revision"
              value={form.version === '' ? 'none' : form.version}
              options={[
                { id: 'none', text: 'all that can be read' },
                ...columns.map((column) => ({ id: column.name, text: column.name })),
              ]}
              onChange={(version) => {
                set({ version: version === 'none' ? '' : version });
              }}
              disabled={!me.editing}
            />
          </Version>
          <Effect edits={edits} />
          {me.editing && (
            <Row>
              <Button type="submit" isDisabled={edits.length === 0}>
                Add to the changes
              </Button>
              <DangerButton
                onPress={() => {
                  add({ kind: 'setType', table: sheet.table, setting: { property: 'hidden', value: true } });
                }}
              >
                Leave {sheet.name} out of the API
              </DangerButton>
            </Row>
          )}
        </Stack>
      </Form>
      <section aria-label="Keys">
        <h3>Keys</h3>
        {sheet.keys.length === 0 ? (
          <Faint>It has none: it is read by pages with skip, and not changed.</Faint>
        ) : (
          <ul>
            {sheet.keys.map((key, index) => (
              <li key={index}>
                {key.columns.join(', ')} {key.total && <Word>tells every row apart</Word>}{' '}
                {key.promised && <Word $tone="attention">promised by the project file</Word>}
              </li>
            ))}
          </ul>
        )}
      </section>
      <section aria-label="Indexes">
        <h3>Indexes</h3>
        {sheet.indexes.length === 0 ? (
          <Faint>none</Faint>
        ) : (
          <ul>
            {sheet.indexes.map((index, at) => (
              <li key={at}>{index.join(', ')}</li>
            ))}
          </ul>
        )}
      </section>
    </Stack>
  );
}

const Three = styled.div`
  display: grid;
  grid-template-columns: repeat(3, minmax(0, 1fr));
  gap: 12px;
  @media (max-width: 700px) {
    grid-template-columns: minmax(0, 1fr);
  }
`;
const Version = styled.div`
  width: min(320px, 100%);
`;
