import { useState } from 'react';
import styled from 'styled-components';
import { theme } from '../../../app/theme';
import { Claims } from '../../../app/AsSwitch';
import { subjectOf, useEdits } from '../../../lib/edits';
import type { AccessOverview, Action, Edit, FieldRule, GrantSheet, GrantText, ModelOverview, TypeSheet } from '../../../lib/interface';
import { useSession } from '../../../lib/session';
import { Button, DangerButton, IconButton, QuietButton } from '../../../ui/Button';
import { Select, TextField, Tick } from '../../../ui/fields';
import { Icon } from '../../../ui/Icon';
import { Faint, Row, Stack } from '../../../ui/layout';
import { Notice } from '../../../ui/Notice';
import { RuleField } from '../../../ui/rule/RuleField';
import { textOf } from '../model';
import { LiveCount } from './LiveCount';

interface Props {
  role: string;
  sheet: TypeSheet;
  action: Action;
  grant: GrantSheet | undefined;
  model: ModelOverview;
  access: AccessOverview;
}

/** One grant: which fields, which rows, what must be true, what is set and masked. What is changed is gathered, not saved yet. */
export function GrantForm({ role, sheet, action, grant, model, access }: Props) {
  const { me } = useSession();
  const { edits, add } = useEdits();
  const edit = (text: GrantText): Edit => ({ kind: 'setGrant', role, of: sheet.name, action, grant: text });
  const removal: Edit = { kind: 'removeGrant', role, of: sheet.name, action };
  const gathered = edits.find((known) => subjectOf(known) === subjectOf(removal));
  const [text, setText] = useState<GrantText>(() => (gathered?.kind === 'setGrant' ? gathered.grant : textOf(grant)));
  const set = (part: Partial<GrantText>) => { setText({ ...text, ...part }); };
  const claims = access.roles.flatMap((of) => of.claims);
  const names = fieldNames(sheet, action);
  const isStated = grant !== undefined && !grant.from;
  const isSame = JSON.stringify(text) === JSON.stringify(textOf(grant)) && grant !== undefined;
  return (
    <Stack>
      {grant === undefined && gathered === undefined && <Faint>Not granted. What is ticked and written here grants it.</Faint>}
      {grant?.from && <Notice tone="plain" title={`Taken over from ${grant.from}`}>Stated here, it replaces what is taken over.</Notice>}
      {gathered?.kind === 'removeGrant' && <Notice tone="attention" title="It is among the changes that this grant goes" />}
      {action !== 'delete' && <Fields names={names} text={text} onChange={set} disabled={!me.editing} />}
      {action !== 'create' && (
        <RuleField label="Rows" help="Which rows, as a rule in CEL; empty, every row." type={sheet} model={model} claims={claims} value={text.rows ?? ''} disabled={!me.editing} onChange={(rows) => { set({ rows: rows.trim() === '' ? null : rows }); }} />
      )}
      {action === 'read' && (
        <Stack $gap={4}>
          <Claims role={role} label="Claims to look with" />
          <LiveCount role={role} type={sheet.name} edits={[...edits, edit(text)]} />
        </Stack>
      )}
      {(action === 'create' || action === 'update') && (
        <>
          <RuleField label="Check" help="What must be true of a row as it is after the change." type={sheet} model={model} claims={claims} value={text.check ?? ''} disabled={!me.editing} onChange={(check) => { set({ check: check.trim() === '' ? null : check }); }} />
          <FieldRules title="Fixed" help="Set whatever the caller says: a claim such as claims.sub, now, or a constant." names={names.map((of) => of.name)} rules={text.fixed ?? []} disabled={!me.editing} onChange={(fixed) => { set({ fixed }); }} />
        </>
      )}
      {action === 'read' && (
        <>
          <FieldRules title="Masks" help="A value is shown only where the rule is true." names={names.filter((of) => !of.link).map((of) => of.name)} rules={text.masks ?? []} disabled={!me.editing} onChange={(masks) => { set({ masks }); }} />
          <Row $gap={16}>
            <TextField label="Most rows of a page" type="number" value={text.maxPage ? String(text.maxPage) : ''} placeholder="as everywhere" disabled={!me.editing} onChange={(value) => { set({ maxPage: value === '' ? null : Number(value) }); }} />
            <Tick checked={text.count !== false} disabled={!me.editing} onChange={(count) => { set({ count }); }}>
              may count and sum up
            </Tick>
          </Row>
        </>
      )}
      {action === 'delete' && (
        <Tick checked={text.cascade === true} disabled={!me.editing} onChange={(cascade) => { set({ cascade }); }}>
          also where it takes rows of other types along, which the role may not touch itself
        </Tick>
      )}
      {me.editing && (
        <Row>
          <Button isDisabled={isSame} onPress={() => { add(edit(text)); }}>
            {grant === undefined ? `Grant ${action}` : 'Change the grant'}
          </Button>
          {isStated && <DangerButton onPress={() => { add(removal); }}>Take {action} away</DangerButton>}
          <Faint>Gathered with the other changes; saved from there.</Faint>
        </Row>
      )}
      {grant && (
        <Faint>
          [role.{grant.from ?? role}.{sheet.name}.{action}], line {grant.line} of puente.toml
        </Faint>
      )}
    </Stack>
  );
}

interface Named {
  name: string;
  link: boolean;
  inside: boolean;
}

/** What an action can be granted for: fields, those inside JSON, and for reading every link, else the links to one. */
function fieldNames(sheet: TypeSheet, action: Action): Named[] {
  const columns = sheet.columns.filter((column) => column.field && (action === 'read' || !column.computed));
  const links = sheet.links.filter((link) => action === 'read' || (!link.many && !link.crosses && !link.through));
  return [
    ...columns.map((column) => ({ name: column.label, link: false, inside: column.label.includes('.') })),
    ...links.map((link) => ({ name: link.field, link: true, inside: false })),
  ];
}

function Fields({ names, text, onChange, disabled }: { names: Named[]; text: GrantText; onChange: (part: Partial<GrantText>) => void; disabled: boolean }) {
  const fields = text.fields ?? [];
  const outer = (name: string) => fields.some((field) => name.startsWith(`${field}.`));
  const toggle = (name: string, checked: boolean) => {
    const without = fields.filter((field) => field !== name && !field.startsWith(`${name}.`));
    onChange({ fields: checked ? [...without, name] : without });
  };
  return (
    <section aria-label="Fields">
      <Row $gap={16}>
        <h3>Fields</h3>
        <Tick checked={text.allFields === true} disabled={disabled} onChange={(allFields) => { onChange({ allFields }); }}>
          all, also those that come later
        </Tick>
        <QuietButton isDisabled={disabled || text.allFields === true} onPress={() => { onChange({ fields: names.filter((of) => !of.inside).map((of) => of.name) }); }}>
          Tick all there are
        </QuietButton>
        <QuietButton isDisabled={disabled || text.allFields === true} onPress={() => { onChange({ fields: [] }); }}>
          Tick none
        </QuietButton>
      </Row>
      <Ticks>
        {names.map(({ name, link, inside }) => {
          const within = outer(name);
          const some = !fields.includes(name) && fields.some((field) => field.startsWith(`${name}.`));
          return (
            <li key={name} className={inside ? 'inside' : ''}>
              <Tick checked={text.allFields === true || fields.includes(name) || within} some={some && !within} disabled={disabled || text.allFields === true || within} onChange={(checked) => { toggle(name, checked); }}>
                {name} {link && <Faint>link</Faint>}
              </Tick>
            </li>
          );
        })}
      </Ticks>
    </section>
  );
}

interface RulesProps {
  title: string;
  help: string;
  names: string[];
  rules: FieldRule[];
  disabled: boolean;
  onChange: (rules: FieldRule[]) => void;
}

/** Rules about single fields. */
function FieldRules({ title, help, names, rules, disabled, onChange }: RulesProps) {
  const free = names.filter((name) => !rules.some((rule) => rule.field === name));
  return (
    <section aria-label={title}>
      <h3>{title}</h3>
      <Faint>{help}</Faint>
      <Stack $gap={4}>
        {rules.map(({ field, rule }, index) => (
          <Pair key={field}>
            <TextField label={`${title}: ${field}`} value={rule} mono disabled={disabled} onChange={(rule) => { onChange(rules.map((known, at) => (at === index ? { field, rule } : known))); }} />
            <IconButton aria-label={`Take ${field} out of ${title.toLowerCase()}`} isDisabled={disabled} onPress={() => { onChange(rules.filter((_, at) => at !== index)); }}>
              <Icon name="remove" />
            </IconButton>
          </Pair>
        ))}
        {!disabled && free.length > 0 && (
          <Narrow>
            <Select label={`Add a field to ${title.toLowerCase()}`} hideLabel value={null} placeholder="add a field" options={free.map((name) => ({ id: name, text: name }))} onChange={(field) => { onChange([...rules, { field, rule: '' }]); }} />
          </Narrow>
        )}
      </Stack>
    </section>
  );
}

const Ticks = styled.ul`
  columns: 3 180px;
  margin-top: 4px;
  padding: 8px 12px;
  border: 1px solid ${theme.line};
  border-radius: 4px;
  li { break-inside: avoid; }
  .inside { padding-left: 16px; }
`;
const Pair = styled.div`
  display: grid;
  grid-template-columns: minmax(0, 1fr) auto;
  align-items: end;
  gap: 4px;
`;
const Narrow = styled.div`
  width: 220px;
`;
