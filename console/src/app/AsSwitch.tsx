import { useNavigate } from '@tanstack/react-router';
import { Dialog, DialogTrigger } from 'react-aria-components';
import styled from 'styled-components';
import { readClaims, useAs, useClaimsText } from '../lib/as';
import { useAccess } from '../lib/queries';
import { useSession } from '../lib/session';
import { QuietButton } from '../ui/Button';
import { Floating, Select, TextField } from '../ui/fields';
import { Icon } from '../ui/Icon';
import { RoleMark } from '../ui/RoleMark';
import { theme } from './theme';

/** Who am I? Holds for every page. */
export function AsSwitch() {
  const { me } = useSession();
  const { role, choose } = useAs();
  return (
    <DialogTrigger>
      <Switch>
        <span className="as">as</span>
        <RoleMark role={role} roles={me.roles} />
        <span className="role">{role}</span>
        <span className="visually-hidden">: choose who you look as</span>
        <Icon name="down" />
      </Switch>
      <Floating>
        <Choices aria-label="Who you look as">
          <ul>
            {me.roles.map((of) => (
              <li key={of}>
                <Role
                  aria-pressed={of === role}
                  onPress={() => {
                    choose(of);
                  }}
                >
                  <RoleMark role={of} roles={me.roles} />
                  {of}
                </Role>
              </li>
            ))}
          </ul>
          {me.owner && role !== 'owner' && <Claims role={role} />}
          {me.owner && role !== 'owner' && me.roles.length > 2 && <CompareWith role={role} />}
          {!me.owner && <p>These are the roles of your key or token; its claims are {JSON.stringify(me.claims)}.</p>}
        </Choices>
      </Floating>
    </DialogTrigger>
  );
}

/** A second role beside the first: what one has that the other has not. */
function CompareWith({ role }: { role: string }) {
  const { me } = useSession();
  const navigate = useNavigate();
  const others = me.roles.filter((of) => of !== role && of !== 'owner');
  return (
    <Select
      label="Compare with"
      value={null}
      placeholder="another role"
      options={others.map((id) => ({ id, text: id, mark: <RoleMark role={id} roles={me.roles} /> }))}
      onChange={(other) => {
        void navigate({ to: '/access', search: (before) => ({ as: before.as, tab: 'with', role, with: other }) });
      }}
    />
  );
}

/** What the role's rules look at, entered by the owner. */
export function Claims({ role, label }: { role: string; label?: string }) {
  const access = useAccess();
  const [text, setText] = useClaimsText(role);
  const wanted = access.data?.roles.find((of) => of.name === role)?.claims ?? [];
  const read = readClaims(text);
  return (
    <TextField
      label={label ?? 'Claims'}
      value={text}
      onChange={setText}
      mono
      placeholder={wanted.length === 0 ? 'none are looked at' : wanted.map((name) => `${name}=7`).join(', ')}
      help={wanted.length === 0 ? 'No rule of this role looks at claims.' : `Its rules look at ${wanted.join(', ')}.`}
      error={read.ok ? undefined : read.message}
    />
  );
}

const Switch = styled(QuietButton)`
  min-width: 0;
  .as {
    color: ${theme.muted};
  }
  .role {
    overflow: hidden;
    text-overflow: ellipsis;
    max-width: 140px;
  }
  @media (max-width: 700px) {
    padding: 4px 6px;
    .as {
      display: none;
    }
    .role {
      max-width: 72px;
    }
  }
`;
const Choices = styled(Dialog)`
  display: grid;
  gap: 12px;
  width: 280px;
  max-height: 70vh;
  overflow: auto;
  padding: 8px;
  outline: none;
  p {
    color: ${theme.muted};
    overflow-wrap: anywhere;
  }
`;
const Role = styled(QuietButton)`
  width: 100%;
  justify-content: flex-start;
  border-color: transparent;
`;
