import { useState } from 'react';
import { Claims } from '../../../app/AsSwitch';
import { subjectOf, useEdits } from '../../../lib/edits';
import type {
  AccessOverview,
  Action,
  Edit,
  GrantSheet,
  GrantText,
  ModelOverview,
  TypeSheet,
} from '../../../lib/interface';
import { useSession } from '../../../lib/session';
import { Button, DangerButton } from '../../../ui/Button';
import { TextField, Tick } from '../../../ui/fields';
import { Faint, Row, Stack } from '../../../ui/layout';
import { Notice } from '../../../ui/Notice';
import { RuleField } from '../../../ui/rule/RuleField';
import { textOf } from '../model';
import { FieldRules } from './FieldRules';
import { FieldTicks, fieldNames } from './FieldTicks';
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
  const set = (part: Partial<GrantText>) => {
    setText({ ...text, ...part });
  };
  const claims = access.roles.flatMap((of) => of.claims);
  const names = fieldNames(sheet, action);
  const isStated = grant !== undefined && !grant.from;
  const isSame = JSON.stringify(text) === JSON.stringify(textOf(grant)) && grant !== undefined;
  return (
    <Stack>
      {grant === undefined && gathered === undefined && (
        <Faint>Not granted. What is ticked and written here grants it.</Faint>
      )}
      {grant?.from && (
        <Notice tone="plain" title={`Taken over from ${grant.from}`}>
          Stated here, it replaces what is taken over.
        </Notice>
      )}
      {gathered?.kind === 'removeGrant' && (
        <Notice tone="attention" title="It is among the changes that this grant goes" />
      )}
      {action !== 'delete' && <FieldTicks names={names} text={text} onChange={set} disabled={!me.editing} />}
      {action !== 'create' && (
        <RuleField
          label="Rows"
          help="Which rows, as a rule in CEL; empty, every row."
          type={sheet}
          model={model}
          claims={claims}
          value={text.rows ?? ''}
          disabled={!me.editing}
          onChange={(rows) => {
            set({ rows: rows.trim() === '' ? null : rows });
          }}
        />
      )}
      {action === 'read' && (
        <Stack $gap={4}>
          <Claims role={role} label="Claims to look with" />
          <LiveCount role={role} type={sheet.name} edits={[...edits, edit(text)]} />
        </Stack>
      )}
      {(action === 'create' || action === 'update') && (
        <>
          <RuleField
            label="Check"
            help="What must be true of a row as it is after the change."
            type={sheet}
            model={model}
            claims={claims}
            value={text.check ?? ''}
            disabled={!me.editing}
            onChange={(check) => {
              set({ check: check.trim() === '' ? null : check });
            }}
          />
          <FieldRules
            title="Fixed"
            help="Set whatever the caller says: a claim such as claims.sub, now, a constant, or the field of a linked row."
            names={names.map((of) => of.name)}
            rules={text.fixed ?? []}
            disabled={!me.editing}
            onChange={(fixed) => {
              set({ fixed });
            }}
          />
        </>
      )}
      {action === 'read' && (
        <>
          <FieldRules
            title="Masks"
            help="A value is shown only where the rule is true."
            names={names.filter((of) => !of.link).map((of) => of.name)}
            rules={text.masks ?? []}
            disabled={!me.editing}
            onChange={(masks) => {
              set({ masks });
            }}
          />
          <Row $gap={16}>
            <TextField
              label="Most rows of a page"
              type="number"
              value={text.maxPage ? String(text.maxPage) : ''}
              placeholder="as everywhere"
              disabled={!me.editing}
              onChange={(value) => {
                set({ maxPage: value === '' ? null : Number(value) });
              }}
            />
            <Tick
              checked={text.count !== false}
              disabled={!me.editing}
              onChange={(count) => {
                set({ count });
              }}
            >
              may count and sum up
            </Tick>
          </Row>
        </>
      )}
      {action === 'delete' && (
        <Tick
          checked={text.cascade === true}
          disabled={!me.editing}
          onChange={(cascade) => {
            set({ cascade });
          }}
        >
          also where it takes rows of other types along, which the role may not touch itself
        </Tick>
      )}
      {me.editing && (
        <Row>
          <Button
            isDisabled={isSame}
            onPress={() => {
              add(edit(text));
            }}
          >
            {grant === undefined ? `Grant ${action}` : 'Change the grant'}
          </Button>
          {isStated && (
            <DangerButton
              onPress={() => {
                add(removal);
              }}
            >
              Take {action} away
            </DangerButton>
          )}
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
