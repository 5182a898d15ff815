import styled from 'styled-components';
import { theme } from '../../../app/theme';
import type { Action, ColumnSheet, GrantText, TypeSheet } from '../../../lib/interface';
import { QuietButton } from '../../../ui/Button';
import { Tick } from '../../../ui/fields';
import { Faint, Row } from '../../../ui/layout';

export interface Named {
  name: string;
  link: boolean;
  inside: boolean;
}

/** What an action can be granted for: fields, those inside JSON, and for reading every link, else the links to one. */
export function fieldNames(sheet: TypeSheet, action: Action): Named[] {
  const lists = sheet.columns.filter((column) => column.type.startsWith('[')).map((column) => `${column.label}.`);
  // What is inside a list is written with the list.
  const isWritten = (column: ColumnSheet) => !column.computed && !lists.some((list) => column.label.startsWith(list));
  const columns = sheet.columns.filter((column) => column.field && (action === 'read' || isWritten(column)));
  const links = sheet.links.filter((link) => action === 'read' || (!link.many && !link.crosses && !link.through));
  return [
    ...columns.map((column) => ({ name: column.label, link: false, inside: column.label.includes('.') })),
    ...links.map((link) => ({ name: link.field, link: true, inside: false })),
  ];
}

/** The fields of a grant, to tick. Of what is ticked whole, nothing inside is ticked by itself. */
export function FieldTicks({
  names,
  text,
  onChange,
  disabled,
}: {
  names: Named[];
  text: GrantText;
  onChange: (part: Partial<GrantText>) => void;
  disabled: boolean;
}) {
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
        <Tick
          checked={text.allFields === true}
          disabled={disabled}
          onChange={(allFields) => {
            onChange({ allFields });
          }}
        >
          all, also those that come later
        </Tick>
        <QuietButton
          isDisabled={disabled || text.allFields === true}
          onPress={() => {
            onChange({ fields: names.filter((of) => !of.inside).map((of) => of.name) });
          }}
        >
          Tick all there are
        </QuietButton>
        <QuietButton
          isDisabled={disabled || text.allFields === true}
          onPress={() => {
            onChange({ fields: [] });
          }}
        >
          Tick none
        </QuietButton>
      </Row>
      <Ticks>
        {names.map(({ name, link, inside }) => {
          const within = outer(name);
          const some = !fields.includes(name) && fields.some((field) => field.startsWith(`${name}.`));
          return (
            <li key={name} className={inside ? 'inside' : ''}>
              <Tick
                checked={text.allFields === true || fields.includes(name) || within}
                some={some && !within}
                disabled={disabled || text.allFields === true || within}
                onChange={(checked) => {
                  toggle(name, checked);
                }}
              >
                {name} {link && <Faint>link</Faint>}
              </Tick>
            </li>
          );
        })}
      </Ticks>
    </section>
  );
}

const Ticks = styled.ul`
  columns: 3 180px;
  margin-top: 4px;
  padding: 8px 12px;
  border: 1px solid ${theme.line};
  border-radius: 4px;
  li {
    break-inside: avoid;
  }
  .inside {
    padding-left: 16px;
  }
`;
