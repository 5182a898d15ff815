import { useState } from 'react';
import { Form } from 'react-aria-components';
import styled from 'styled-components';
import { theme } from '../../../app/theme';
import { useEdits } from '../../../lib/edits';
import type { AccessOverview, RoleSheet } from '../../../lib/interface';
import { useSession } from '../../../lib/session';
import { Button, DangerButton, QuietButton } from '../../../ui/Button';
import { TextField, Tick } from '../../../ui/fields';
import { Faint, Panel, Row, Stack } from '../../../ui/layout';
import { RoleMark } from '../../../ui/RoleMark';

/** The roles: made, described, included in each other. */
export function Roles({ access }: { access: AccessOverview }) {
  const { me } = useSession();
  const [making, setMaking] = useState(false);
  return (
    <Stack>
      {me.editing && !making && (
        <Row>
          <Button
            onPress={() => {
              setMaking(true);
            }}
          >
            Make a role
          </Button>
        </Row>
      )}
      {making && (
        <Panel title="A new role">
          <RoleForm
            known={access.roles}
            onDone={() => {
              setMaking(false);
            }}
          />
        </Panel>
      )}
      <List aria-label="Roles">
        {access.roles.map((role) => (
          <Role key={role.name} role={role} access={access} />
        ))}
      </List>
    </Stack>
  );
}

function Role({ role, access }: { role: RoleSheet; access: AccessOverview }) {
  const { me } = useSession();
  const { add } = useEdits();
  const [editing, setEditing] = useState(false);
  const grants = access.grants.filter((grant) => grant.role === role.name);
  const types = new Set(grants.map((grant) => grant.type)).size;
  return (
    <li>
      <Row>
        <RoleMark role={role.name} roles={me.roles} />
        <strong>{role.name}</strong>
        {access.anonymous === role.name && <Faint>whoever says nothing</Faint>}
        <Faint>
          {grants.length} grants for {types} types
          {role.include.length > 0 && `, takes over from ${role.include.join(', ')}`}
          {role.claims.length > 0 && `, looks at ${role.claims.map((claim) => `claims.${claim}`).join(', ')}`}; line{' '}
          {role.line}
        </Faint>
      </Row>
      {role.description ? <p>{role.description}</p> : <Faint>Nothing says what it is for.</Faint>}
      {editing ? (
        <RoleForm
          role={role}
          known={access.roles}
          onDone={() => {
            setEditing(false);
          }}
        />
      ) : (
        me.editing && (
          <Row>
            <QuietButton
              aria-label={`Change ${role.name}`}
              onPress={() => {
                setEditing(true);
              }}
            >
              Change
            </QuietButton>
            <DangerButton
              aria-label={`Take out ${role.name} with its grants`}
              onPress={() => {
                add({ kind: 'removeRole', role: role.name });
              }}
            >
              Take out
            </DangerButton>
          </Row>
        )
      )}
    </li>
  );
}

function RoleForm({ role, known, onDone }: { role?: RoleSheet; known: RoleSheet[]; onDone: () => void }) {
  const { add } = useEdits();
  const [name, setName] = useState(role?.name ?? '');
  const [description, setDescription] = useState(role?.description ?? '');
  const [include, setInclude] = useState(role?.include ?? []);
  const taken = role === undefined && (name === 'owner' || known.some((of) => of.name === name));
  const error = taken
    ? 'There is a role of this name.'
    : name !== '' && !/^[a-z0-9_]+$/.test(name)
      ? 'Lower-case letters, digits and _.'
      : undefined;
  return (
    <Form
      onSubmit={(event) => {
        event.preventDefault();
        if (name === '' || error) return;
        add({
          kind: 'setRole',
          role: name,
          description: description.trim() === '' ? null : description.trim(),
          include,
        });
        onDone();
      }}
    >
      <Stack $gap={8}>
        {role === undefined && <TextField label="Name" value={name} onChange={setName} error={error} autoFocus />}
        <TextField label="What it is for" value={description} onChange={setDescription} />
        <fieldset>
          <legend>Takes over the grants of</legend>
          <Row $gap={12}>
            {known
              .filter((of) => of.name !== role?.name)
              .map((of) => (
                <Tick
                  key={of.name}
                  checked={include.includes(of.name)}
                  onChange={(checked) => {
                    setInclude(checked ? [...include, of.name] : include.filter((known) => known !== of.name));
                  }}
                >
                  {of.name}
                </Tick>
              ))}
          </Row>
        </fieldset>
        <Row>
          <Button type="submit" isDisabled={name === '' || error !== undefined}>
            {role === undefined ? 'Add the role to the changes' : `Change ${role.name}`}
          </Button>
          <QuietButton onPress={onDone}>Leave it</QuietButton>
        </Row>
      </Stack>
    </Form>
  );
}

const List = styled.ul`
  display: grid;
  gap: 8px;
  > li {
    display: grid;
    gap: 6px;
    padding: 8px 12px;
    background: ${theme.surface};
    border: 1px solid ${theme.line};
    border-radius: 4px;
  }
  fieldset {
    margin: 0;
    padding: 4px 12px;
    border: 1px solid ${theme.line};
    border-radius: 4px;
  }
`;
