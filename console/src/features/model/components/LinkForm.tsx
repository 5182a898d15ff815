import { useState } from 'react';
import { Form } from 'react-aria-components';
import styled from 'styled-components';
import { theme } from '../../../app/theme';
import { useEdits } from '../../../lib/edits';
import type { Edit, LinkText, ModelOverview } from '../../../lib/interface';
import { useType } from '../../../lib/queries';
import { Button, QuietButton } from '../../../ui/Button';
import { Effect } from '../../../ui/Effect';
import { Select, TextField } from '../../../ui/fields';
import { Row, Stack } from '../../../ui/layout';

interface Props {
  model: ModelOverview;
  from: string;
  to?: string;
  /** The `[[link]]` that is changed; absent, one is added. */
  before?: LinkText;
  onDone: () => void;
}

/** A link that no foreign key declares: which columns refer to which, and what it is called on either side. */
export function LinkForm({ model, from, to, before, onDone }: Props) {
  const { add } = useEdits();
  const [target, setTarget] = useState(to ?? model.types.find((type) => type.table === before?.to)?.name ?? null);
  const [pairs, setPairs] = useState<[string | null, string | null][]>(
    () => before?.columns?.map((column, index) => [column, before.references?.[index] ?? null]) ?? [[null, null]],
  );
  const [name, setName] = useState(before?.name ?? '');
  const [back, setBack] = useState(before?.back ?? '');
  const own = useType(from);
  const other = useType(target ?? undefined);
  const columns = own.data?.columns.filter((column) => !column.member).map((column) => column.name) ?? [];
  const keys = other.data?.keys[0]?.columns ?? [];
  const references = other.data?.columns.filter((column) => !column.member).map((column) => column.name) ?? [];
  const whole =
    pairs.every(([column, reference]) => column !== null && reference !== null) &&
    target !== null &&
    own.data !== undefined &&
    other.data !== undefined;
  const text = (value: string) => (value.trim() === '' ? null : value.trim());
  const link: LinkText | null = whole
    ? {
        ...(before ?? {}),
        table: before?.table ?? own.data.table,
        columns: pairs.map(([column]) => column ?? ''),
        to: before?.to ?? other.data.table,
        references: pairs.map(([, reference]) => reference ?? ''),
        name: text(name),
        back: text(back),
      }
    : null;
  const edit: Edit | null =
    link === null ? null : before ? { kind: 'changeLink', before, link } : { kind: 'addLink', link };
  const set = (index: number, pair: [string | null, string | null]) => {
    setPairs(pairs.map((known, at) => (at === index ? pair : known)));
  };
  return (
    <Form
      onSubmit={(event) => {
        event.preventDefault();
        if (!edit) return;
        add(edit);
        onDone();
      }}
    >
      <Box>
        <Stack $gap={8}>
          {!before && (
            <Choice>
              <Select
                label={`${from} refers to`}
                value={target}
                options={model.types.map((type) => ({ id: type.name, text: type.name }))}
                onChange={(chosen) => {
                  setTarget(chosen);
                  setPairs([[null, null]]);
                }}
              />
            </Choice>
          )}
          {target !== null &&
            pairs.map(([column, reference], index) => (
              <Pair key={index}>
                <Select
                  label={`Column of ${from}`}
                  value={column}
                  options={columns.map((name) => ({ id: name, text: name }))}
                  onChange={(chosen) => {
                    set(index, [chosen, reference ?? keyColumn(other.data, keys)]);
                  }}
                  disabled={before !== undefined}
                />
                <Select
                  label={`Column of ${target}`}
                  value={reference}
                  options={references.map((name) => ({ id: name, text: name }))}
                  onChange={(chosen) => {
                    set(index, [column, chosen]);
                  }}
                  disabled={before !== undefined}
                />
              </Pair>
            ))}
          {!before && target !== null && (
            <Row>
              <QuietButton
                onPress={() => {
                  setPairs([...pairs, [null, null]]);
                }}
              >
                One more pair of columns
              </QuietButton>
            </Row>
          )}
          <Pair>
            <TextField label={`Name of the link on ${from}`} value={name} onChange={setName} placeholder="as by rule" />
            <TextField
              label={`Name of the way back on ${target ?? 'the other'}`}
              value={back}
              onChange={setBack}
              placeholder="as by rule"
            />
          </Pair>
          <Effect edits={edit ? [edit] : []} />
          <Row>
            <Button type="submit" isDisabled={edit === null}>
              {before ? 'Change the link' : 'Add the link to the changes'}
            </Button>
            <QuietButton onPress={onDone}>Leave it</QuietButton>
          </Row>
        </Stack>
      </Box>
    </Form>
  );
}

/** The column of a key of one column, which is what most links refer to. */
function keyColumn(sheet: { columns: { label: string; name: string }[] } | undefined, keys: string[]): string | null {
  return keys.length === 1 ? (sheet?.columns.find((column) => column.label === keys[0])?.name ?? null) : null;
}

const Box = styled.div`
  padding: 8px 12px 12px;
  background: ${theme.raised};
  border-radius: 4px;
`;
const Choice = styled.div`
  width: min(280px, 100%);
`;
const Pair = styled.div`
  display: grid;
  grid-template-columns: 1fr 1fr;
  gap: 12px;
`;
