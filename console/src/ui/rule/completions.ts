/** What can stand at a place in a rule: fields and links of the row it is about, claims, words of enums, functions. */

import type { ModelOverview, TypeSheet } from '../../lib/interface';

interface Known {
  type: TypeSheet;
  model: ModelOverview;
  claims: string[];
}

interface Option {
  label: string;
  type?: string;
  detail?: string;
  apply?: string;
}

export interface Completions {
  from: number;
  options: Option[];
}

const WORDS: Option[] = [
  { label: 'row', type: 'variable', detail: 'the row' },
  { label: 'claims', type: 'variable', detail: 'the caller' },
  { label: 'now', type: 'variable', detail: 'the time of the request' },
  { label: 'true', type: 'keyword' },
  { label: 'false', type: 'keyword' },
  { label: 'null', type: 'keyword' },
  { label: 'has', type: 'function', apply: 'has(' },
  { label: 'size', type: 'function', apply: 'size(' },
];
const METHODS: Option[] = ['startsWith', 'endsWith', 'contains'].map((name) => ({
  label: name,
  type: 'function',
  apply: `${name}(`,
}));
const QUANTIFIERS: Option[] = ['exists', 'all'].map((name) => ({
  label: name,
  type: 'function',
  apply: `${name}(x, x.`,
}));

/** The completions behind what stands before the cursor; none where nothing is known to fit. */
export function completionsAt(before: string, known: Known, explicit: boolean): Completions | null {
  const value = /((?:row|[a-z]\w*)(?:\.\w+)+)\s*(?:==|!=|in)\s*\[?\s*(?:'[^']*',\s*)*'?(\w*)$/.exec(before);
  if (value?.[1] !== undefined) {
    const words = wordsOf(value[1], known);
    const quoted = before.endsWith(`'${value[2] ?? ''}`);
    if (words.length > 0) {
      const from = before.length - (value[2] ?? '').length;
      return {
        from,
        options: words.map((word) => ({ label: word, type: 'enum', apply: quoted ? word : `'${word}'` })),
      };
    }
  }
  const path = /([A-Za-z_]\w*(?:\.\w+)*)\.(\w*)$/.exec(before);
  if (path?.[1] !== undefined) {
    const from = before.length - (path[2] ?? '').length;
    const options = members(path[1], before, known);
    return options.length > 0 ? { from, options } : null;
  }
  const word = /[A-Za-z_]\w*$/.exec(before);
  if (!word && !explicit) return null;
  return { from: before.length - (word?.[0].length ?? 0), options: WORDS };
}

/** What is behind a path's last dot. */
function members(path: string, before: string, known: Known): Option[] {
  const [root = '', ...way] = path.split('.');
  if (root === 'claims') return [...new Set(known.claims)].map((claim) => ({ label: claim, type: 'property' }));
  const start = root === 'row' ? known.type.name : scopeOf(root, before, known);
  if (start === null) return [];
  let type: string | null = start;
  let label = '';
  for (const [index, name] of way.entries()) {
    const of: ModelOverview['types'][number] | undefined = known.model.types.find((known) => known.name === type);
    const link = label === '' ? of?.links.find((link) => link.field === name) : undefined;
    if (link) {
      if (link.many) return index === way.length - 1 ? QUANTIFIERS : [];
      type = link.target;
    } else {
      label = label === '' ? name : `${label}.${name}`;
    }
  }
  return type === null ? [] : ofType(type, label, known);
}

function ofType(type: string, label: string, known: Known): Option[] {
  if (type === known.type.name) {
    const inside = known.type.columns.filter((column) =>
      label === '' ? !column.label.includes('.') : column.label.startsWith(`${label}.`),
    );
    const columns = inside
      .map((column) => ({
        label: label === '' ? column.label : column.label.slice(label.length + 1),
        type: 'property',
        detail: column.type,
      }))
      .filter((option) => !option.label.includes('.'));
    if (label !== '' && columns.length === 0) return METHODS;
    const links = label === '' ? known.type.links.filter((link) => !link.crosses) : [];
    return [
      ...columns,
      ...links.map((link) => ({
        label: link.field,
        type: 'class',
        detail: link.many ? `many ${link.target}` : link.target,
      })),
    ];
  }
  const of = known.model.types.find((known) => known.name === type);
  if (!of || label !== '') return METHODS;
  return [
    ...of.fields.map((field) => ({ label: field, type: 'property' })),
    ...of.links
      .filter((link) => !link.crosses)
      .map((link) => ({ label: link.field, type: 'class', detail: link.target })),
  ];
}

/** The type of the rows that a variable of `exists` or `all` ranges over. */
function scopeOf(name: string, before: string, known: Known): string | null {
  const found = [...before.matchAll(/row((?:\.\w+)+)\.(?:exists|all)\(\s*(\w+)\s*,/g)]
    .reverse()
    .find((match) => match[2] === name);
  if (!found?.[1]) return null;
  let type: string | null = known.type.name;
  for (const step of found[1].slice(1).split('.')) {
    type = known.model.types.find((of) => of.name === type)?.links.find((link) => link.field === step)?.target ?? null;
  }
  return type;
}

/** The words of the enum that a path leads to. */
function wordsOf(path: string, known: Known): string[] {
  const [root, ...way] = path.split('.');
  return root === 'row' ? (known.type.columns.find((column) => column.label === way.join('.'))?.values ?? []) : [];
}
