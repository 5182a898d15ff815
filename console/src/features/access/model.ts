/** What the Access page decides, apart from how it looks. */

import type { AccessOverview, Action, GrantSheet, GrantText } from '../../lib/interface';

export const ACTIONS = ['read', 'create', 'update', 'delete'] as const satisfies readonly Action[];

/** A role's grants of a type, by action. */
export type Cell = Partial<Record<Action, GrantSheet>>;

export function cellsOf(access: AccessOverview): Map<string, Cell> {
  const cells = new Map<string, Cell>();
  for (const grant of access.grants) {
    const name = cellName(grant.role, grant.type);
    cells.set(name, { ...cells.get(name), [grant.action]: grant });
  }
  return cells;
}

export const cellName = (role: string, type: string): string => `${role} ${type}`;

/** How far an action is granted: what a square of the matrix shows. */
export type Extent = 'nothing' | 'some' | 'all';

export function extentOf(grant: GrantSheet | undefined): Extent {
  if (grant === undefined) return 'nothing';
  if (grant.action === 'delete') return grant.rows ? 'some' : 'all';
  const whole = grant.allFields || new Set(grant.fields.filter((field) => !field.includes('.'))).size >= grant.outOf;
  return whole && !grant.rows && grant.masks.length === 0 ? 'all' : 'some';
}

/** A cell in words, for whoever cannot see its squares. */
export function toldCell(role: string, type: string, cell: Cell): string {
  const parts = ACTIONS.flatMap((action) => {
    const grant = cell[action];
    return grant ? [toldGrant(grant)] : [];
  });
  return `${role}, ${type}: ${parts.length === 0 ? 'nothing' : parts.join('; ')}`;
}

export function toldGrant(grant: GrantSheet): string {
  const fields =
    grant.action === 'delete' ? '' : grant.allFields ? ' all fields' : ` ${String(grant.fields.length)} fields`;
  const rows = grant.rows ? ` of rows where ${grant.rows}` : '';
  const masks = grant.masks.length > 0 ? `, ${grant.masks.map((mask) => mask.field).join(', ')} masked` : '';
  const from = grant.from ? ` (from ${grant.from})` : '';
  return `${grant.action}${fields}${rows}${masks}${from}`;
}

/** A grant as the file would state it; of none, an empty one. */
export function textOf(grant: GrantSheet | undefined): GrantText {
  if (!grant) return { allFields: false, fields: [], fixed: [], masks: [], count: true, cascade: false };
  return {
    allFields: grant.allFields,
    fields: grant.fields,
    rows: grant.rows ?? null,
    check: grant.check ?? null,
    fixed: grant.fixed,
    masks: grant.masks,
    maxPage: grant.maxPage ?? null,
    count: grant.count,
    cascade: grant.cascade,
  };
}

/** One thing that one of two roles has and the other has not. */
export interface Difference {
  type: string;
  action: Action;
  left: string;
  right: string;
}

/** What two roles may, where it differs. */
export function differencesOf(access: AccessOverview, left: string, right: string): Difference[] {
  const cells = cellsOf(access);
  const types = [
    ...new Set(access.grants.filter((grant) => grant.role === left || grant.role === right).map((grant) => grant.type)),
  ].sort();
  return types.flatMap((type) =>
    ACTIONS.flatMap((action) => {
      const [one, other] = [left, right].map((role) => cells.get(cellName(role, type))?.[action]);
      const said = sides(one, other);
      return said === null ? [] : [{ type, action, left: said[0], right: said[1] }];
    }),
  );
}

function sides(one: GrantSheet | undefined, other: GrantSheet | undefined): [string, string] | null {
  if (!one && !other) return null;
  if (!one || !other) return [one ? whole(one) : 'nothing', other ? whole(other) : 'nothing'];
  const more = (a: GrantSheet, b: GrantSheet) => a.fields.filter((field) => !b.fields.includes(field));
  const own = (grant: GrantSheet, extra: string[], than: GrantSheet): string => {
    const parts = [];
    if (extra.length > 0) parts.push(`also ${extra.join(', ')}`);
    if ((grant.rows ?? '') !== (than.rows ?? '')) parts.push(grant.rows ? `rows where ${grant.rows}` : 'every row');
    if ((grant.check ?? '') !== (than.check ?? '')) parts.push(grant.check ? `check ${grant.check}` : 'no check');
    const masks = (of: GrantSheet) => of.masks.map((mask) => `${mask.field} only where ${mask.rule}`).join('; ');
    if (masks(grant) !== masks(than)) parts.push(masks(grant) === '' ? 'nothing masked' : masks(grant));
    return parts.join('; ');
  };
  const left = own(one, more(one, other), other);
  const right = own(other, more(other, one), one);
  return left === '' && right === '' ? null : [left === '' ? 'no more' : left, right === '' ? 'no more' : right];
}

function whole(grant: GrantSheet): string {
  const fields = grant.action === 'delete' ? 'rows' : grant.allFields ? 'all fields' : grant.fields.join(', ');
  return grant.rows ? `${fields}, where ${grant.rows}` : fields;
}
