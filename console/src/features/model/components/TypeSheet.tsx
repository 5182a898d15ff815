import { useNavigate, useSearch } from '@tanstack/react-router';
import styled from 'styled-components';
import { useAs } from '../../../lib/as';
import type { ModelOverview, TypeSheet as Sheeted } from '../../../lib/interface';
import { useAccess, useType } from '../../../lib/queries';
import { CopyButton } from '../../../ui/CopyButton';
import { Faint, Row, Stack } from '../../../ui/layout';
import { Sheet } from '../../../ui/Sheet';
import { Answered } from '../../../ui/states';
import { Tab, TabList, TabPanel, Tabs } from '../../../ui/Tabs';
import { theme } from '../../../app/theme';
import { seenBy } from '../model';
import { About } from './About';
import { Fields } from './Fields';
import { Links } from './Links';
import { SampleRows } from './SampleRows';

/** One type with all that there is to say of it. */
export function TypeSheet({ name, model, onClose }: { name: string; model: ModelOverview; onClose: () => void }) {
  const sheet = useType(name);
  return (
    <Sheet title={name} wide onClose={onClose}>
      <Answered query={sheet} what={`The type ${name}`}>
        {(sheet) => <Parts sheet={sheet} model={model} />}
      </Answered>
    </Sheet>
  );
}

function Parts({ sheet, model }: { sheet: Sheeted; model: ModelOverview }) {
  const { tab } = useSearch({ from: '/model' });
  const navigate = useNavigate();
  const { role, isOwner } = useAs();
  const access = useAccess();
  const seen = isOwner || !access.data ? null : (seenBy(access.data, role).get(sheet.name) ?? new Set<string>());
  return (
    <Stack>
      <Faint>
        {sheet.table} of {sheet.source}; one by {sheet.one}, many by {sheet.list}
        {!sheet.writable && '; read-only'}
        {seen !== null && `; what ${role} does not see is hatched`}
      </Faint>
      <Tabs
        selectedKey={tab ?? 'fields'}
        onSelectionChange={(chosen) => {
          void navigate({ from: '/model', search: (before) => ({ ...before, tab: String(chosen) }) });
        }}
      >
        <TabList aria-label={`Parts of ${sheet.name}`}>
          <Tab id="fields">Fields</Tab>
          <Tab id="links">Links</Tab>
          <Tab id="about">Names and keys</Tab>
          <Tab id="schema">Schema</Tab>
          <Tab id="rows">Rows</Tab>
        </TabList>
        <TabPanel id="fields">
          <Fields key={sheet.name} sheet={sheet} seen={seen} />
        </TabPanel>
        <TabPanel id="links">
          <Links sheet={sheet} model={model} seen={seen} />
        </TabPanel>
        <TabPanel id="about">
          <About key={JSON.stringify(sheet.stated)} sheet={sheet} />
        </TabPanel>
        <TabPanel id="schema">
          <Row>
            <h3>The owner&apos;s schema, as far as it is about {sheet.name}</h3>
            <CopyButton what="the SDL" text={sheet.sdl} />
          </Row>
          <Sdl tabIndex={0}>{sheet.sdl}</Sdl>
        </TabPanel>
        <TabPanel id="rows">
          <SampleRows sheet={sheet} />
        </TabPanel>
      </Tabs>
    </Stack>
  );
}

const Sdl = styled.pre`
  padding: 8px 12px;
  overflow: auto;
  background: ${theme.raised};
  border-radius: 4px;
`;
