import { useMutation } from '@tanstack/react-query';
import { useState } from 'react';
import styled from 'styled-components';
import { theme } from '../../../app/theme';
import type { Edit, ModelOverview } from '../../../lib/interface';
import { post } from '../../../lib/project';
import { useModel, useProjectChanged } from '../../../lib/queries';
import { useSession } from '../../../lib/session';
import { Button, LinkButton } from '../../../ui/Button';
import { Tick } from '../../../ui/fields';
import { Faint, Panel, Row, Stack } from '../../../ui/layout';
import { Notice } from '../../../ui/Notice';
import { Answered } from '../../../ui/states';
import { aboutRows } from '../../../ui/table/kinds';

/** What was found, and which of it the API is to have. */
export function ChooseTypes({ onDone }: { onDone: () => void }) {
  const model = useModel();
  return (
    <Answered query={model} what="What was found">
      {(model) => <Chooser model={model} onDone={onDone} />}
    </Answered>
  );
}

function Chooser({ model, onDone }: { model: ModelOverview; onDone: () => void }) {
  const { key } = useSession();
  const changed = useProjectChanged();
  const [left, setLeft] = useState<ReadonlySet<string>>(new Set());
  const links = model.types.reduce((sum, type) => sum + type.links.length, 0);
  const save = useMutation({
    mutationFn: async () => {
      const edits = model.types
        .filter((type) => left.has(type.name))
        .map((type): Edit => ({ kind: 'setType', table: type.table, setting: { property: 'hidden', value: true } }));
      if (edits.length === 0) return;
      const proposed = await post(key, '/project/edits/propose', { edits });
      await post(key, '/project/edits/save', { base: proposed.base, edits });
    },
    onSuccess: async () => {
      await changed();
      onDone();
    },
  });
  const toggle = (name: string) => {
    const next = new Set(left);
    if (!next.delete(name)) next.add(name);
    setLeft(next);
  };
  const serving = model.types.length - left.size;
  return (
    <Panel title={`${String(model.types.length)} types and ${String(links)} links were found`}>
      <Stack>
        <p>
          What is left out here is not in the API; it can be taken in again on the page Model. Nobody but the owner sees
          anything until a role is granted it.
        </p>
        <Row>
          <LinkButton
            onPress={() => {
              setLeft(new Set());
            }}
          >
            Take all
          </LinkButton>
          <LinkButton
            onPress={() => {
              setLeft(new Set(model.types.map((type) => type.name)));
            }}
          >
            Leave all out
          </LinkButton>
        </Row>
        <List aria-label="Types">
          {model.types.map((type) => (
            <li key={type.name}>
              <Tick
                checked={!left.has(type.name)}
                onChange={() => {
                  toggle(type.name);
                }}
              >
                {type.name}{' '}
                <Faint>
                  {type.table}, {type.view ? 'view' : aboutRows(type.aboutRows)}, {type.fields.length} fields
                  {type.links.length > 0 &&
                    `, linked to ${[...new Set(type.links.map((link) => link.target))].join(', ')}`}
                </Faint>
              </Tick>
            </li>
          ))}
        </List>
        {save.error && <Notice title="Nothing was saved">{save.error.message}</Notice>}
        <Button
          isDisabled={save.isPending || serving === 0}
          onPress={() => {
            save.mutate();
          }}
        >
          {serving === 1 ? 'Serve 1 type' : `Serve ${String(serving)} types`}
        </Button>
      </Stack>
    </Panel>
  );
}

const List = styled.ul`
  display: grid;
  gap: 2px;
  max-height: 50vh;
  overflow: auto;
  padding: 8px;
  border: 1px solid ${theme.line};
  border-radius: 4px;
`;
