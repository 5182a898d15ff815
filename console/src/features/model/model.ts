/** What the Model page decides, apart from how it looks. */

import type { AccessOverview, ColumnSheet, Edit, TypeSheet } from '../../lib/interface';

/** The types that a role reads, each with the fields and links that it sees. */
export function seenBy(access: AccessOverview, role: string): Map<string, Set<string>> {
  const seen = new Map<string, Set<string>>();
  for (const grant of access.grants) {
    if (grant.role === role && grant.action === 'read') seen.set(grant.type, new Set(grant.fields));
  }
  return seen;
}

/** Is a field, or something inside of it, among those that a role sees? */
export function isSeen(seen: Set<string> | undefined, label: string): boolean {
  if (!seen) return false;
  for (const field of seen) {
    if (field === label || label.startsWith(`${field}.`) || field.startsWith(`${label}.`)) return true;
  }
  return false;
}

export interface FieldForm {
  name: string;
  description: string;
  hidden: boolean;
  shape: boolean;
}

export function fieldForm(column: ColumnSheet): FieldForm {
  return {
    name: column.stated.name ?? '',
    description: column.stated.description ?? '',
    hidden: column.field === undefined || column.field === null,
    shape: column.stated.shape,
  };
}

/** The edits that make a field as a form has it. */
export function fieldEdits(sheet: TypeSheet, column: ColumnSheet, form: FieldForm): Edit[] {
  const before = fieldForm(column);
  const at = {
    kind: 'setField',
    table: sheet.table,
    column: column.name,
    ...(column.member ? { member: column.member } : {}),
  } as const;
  const text = (value: string): string | null => (value.trim() === '' ? null : value.trim());
  const edits: Edit[] = [];
  if (form.name.trim() !== before.name) edits.push({ ...at, setting: { property: 'name', value: text(form.name) } });
  if (form.description.trim() !== before.description)
    edits.push({ ...at, setting: { property: 'description', value: text(form.description) } });
  if (form.hidden !== before.hidden) edits.push({ ...at, setting: { property: 'hidden', value: form.hidden } });
  if (form.shape !== before.shape) edits.push({ ...at, setting: { property: 'shape', value: form.shape } });
  return edits;
}

export interface TypeForm {
  name: string;
  one: string;
  list: string;
  description: string;
  version: string;
}

export function typeForm(sheet: TypeSheet): TypeForm {
  const { stated } = sheet;
  return {
    name: stated.name ?? '',
    one: stated.one ?? '',
    list: stated.list ?? '',
    description: stated.description ?? '',
    version: stated.version ?? '',
  };
}

/** The edits that make a type as a form has it. */
export function typeEdits(sheet: TypeSheet, form: TypeForm): Edit[] {
  const before = typeForm(sheet);
  const properties = ['name', 'one', 'list', 'description', 'version'] as const;
  return properties.flatMap((property): Edit[] => {
    const value = form[property].trim();
    if (value === before[property]) return [];
    return [{ kind: 'setType', table: sheet.table, setting: { property, value: value === '' ? null : value } }];
  });
}
