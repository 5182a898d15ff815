import { useNavigate, useSearch } from '@tanstack/react-router';
import { useSession } from '../../../lib/session';
import type { AccessOverview, Action, ModelOverview } from '../../../lib/interface';
import { useType } from '../../../lib/queries';
import { RoleMark } from '../../../ui/RoleMark';
import { Sheet } from '../../../ui/Sheet';
import { Answered } from '../../../ui/states';
import { Tab, TabList, TabPanel, Tabs } from '../../../ui/Tabs';
import { ACTIONS, cellName, cellsOf } from '../model';
import { GrantForm } from './GrantForm';

interface Props {
  role: string;
  type: string;
  access: AccessOverview;
  model: ModelOverview;
  onClose: () => void;
}

/** What one role may do with one type, action by action. */
export function GrantSheet({ role, type, access, model, onClose }: Props) {
  const { me } = useSession();
  const { action } = useSearch({ from: '/access' });
  const navigate = useNavigate();
  const sheet = useType(type);
  const cell = cellsOf(access).get(cellName(role, type)) ?? {};
  const isAction = (word: string | undefined): word is Action => ACTIONS.some((known) => known === word);
  return (
    <Sheet
      wide
      onClose={onClose}
      title={
        <>
          <RoleMark role={role} roles={me.roles} /> {role} and {type}
        </>
      }
    >
      <Answered query={sheet} what={`The type ${type}`}>
        {(sheet) => (
          <Tabs
            selectedKey={isAction(action) ? action : 'read'}
            onSelectionChange={(chosen) => {
              void navigate({ from: '/access', search: (before) => ({ ...before, action: String(chosen) }) });
            }}
          >
            <TabList aria-label="Actions">
              {ACTIONS.map((of) => (
                <Tab key={of} id={of}>
                  {of}
                  {cell[of] ? '' : ': no'}
                </Tab>
              ))}
            </TabList>
            {ACTIONS.map((of) => (
              <TabPanel key={of} id={of}>
                <GrantForm
                  key={`${role} ${type} ${of}`}
                  role={role}
                  sheet={sheet}
                  action={of}
                  grant={cell[of]}
                  model={model}
                  access={access}
                />
              </TabPanel>
            ))}
          </Tabs>
        )}
      </Answered>
    </Sheet>
  );
}
