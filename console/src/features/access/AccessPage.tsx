import { useNavigate, useSearch } from '@tanstack/react-router';
import styled from 'styled-components';
import type { AccessOverview, ModelOverview } from '../../lib/interface';
import { useAccess, useModel } from '../../lib/queries';
import { useSession } from '../../lib/session';
import { Page } from '../../ui/layout';
import { Answered, Empty, Forbidden } from '../../ui/states';
import { FilledPanel, Tab, TabList, TabPanel, Tabs } from '../../ui/Tabs';
import { GrantSheet } from './components/GrantSheet';
import { Matrix } from './components/Matrix';
import { Roles } from './components/Roles';
import { SeeingThrough } from './components/SeeingThrough';
import { SideBySide } from './components/SideBySide';
import { WhoCan } from './components/WhoCan';

/** Who may see and change what: at a glance, through a role's eyes, by field and row, side by side. */
export function AccessPage() {
  const { me } = useSession();
  const access = useAccess();
  const model = useModel();
  if (!me.owner) {
    return (
      <Page title="Access">
        <Forbidden>Grants are shown to the owner: sign in with an access key of the role owner.</Forbidden>
      </Page>
    );
  }
  return (
    <Answered query={access} what="The grants">
      {(access) => (
        <Answered query={model} what="The model">
          {(model) => <Access access={access} model={model} />}
        </Answered>
      )}
    </Answered>
  );
}

function Access({ access, model }: { access: AccessOverview; model: ModelOverview }) {
  const { tab, role, type } = useSearch({ from: '/access' });
  const navigate = useNavigate();
  const roles = access.roles.length;
  const open = access.grants.filter((grant) => grant.role === access.anonymous && grant.action === 'read').length;
  const says = [
    `${String(roles)} ${roles === 1 ? 'role' : 'roles'} beside the owner, ${String(access.grants.length)} grants`,
    access.anonymous
      ? `whoever says nothing is ${access.anonymous} and reads ${String(open)} types`
      : 'whoever says nothing is refused',
  ].join('; ');
  return (
    <Page title="Access" says={says}>
      <Padded>
        <Tabs
          selectedKey={tab ?? 'matrix'}
          onSelectionChange={(chosen) => {
            void navigate({
              from: '/access',
              search: (before) => ({ ...before, tab: String(chosen), type: undefined, edit: undefined }),
            });
          }}
        >
          <TabList aria-label="Ways to look at access">
            <Tab id="matrix">Matrix</Tab>
            <Tab id="roles">Roles</Tab>
            <Tab id="through">Seeing through a role</Tab>
            <Tab id="who">Who can?</Tab>
            <Tab id="with">Side by side</Tab>
          </TabList>
          <TabPanel id="matrix">
            {roles === 0 ? (
              <Empty title="There is no role yet">
                The tab Roles makes one. Until then the owner alone sees anything.
              </Empty>
            ) : (
              <Matrix access={access} model={model} />
            )}
          </TabPanel>
          <TabPanel id="roles">
            <Roles access={access} />
          </TabPanel>
          <FilledPanel id="through">
            <SeeingThrough access={access} model={model} />
          </FilledPanel>
          <TabPanel id="who">
            <WhoCan model={model} />
          </TabPanel>
          <TabPanel id="with">
            <SideBySide access={access} model={model} />
          </TabPanel>
        </Tabs>
      </Padded>
      {(tab ?? 'matrix') === 'matrix' && role !== undefined && type !== undefined && (
        <GrantSheet
          role={role}
          type={type}
          access={access}
          model={model}
          onClose={() => {
            void navigate({
              from: '/access',
              search: (before) => ({ ...before, role: undefined, type: undefined, action: undefined }),
            });
          }}
        />
      )}
    </Page>
  );
}

const Padded = styled.div`
  display: flex;
  flex-direction: column;
  height: 100%;
  padding: 4px 16px 0;
`;
