/** What the Ask page decides, apart from how it looks. */

import { isObject, type Json, type JsonObject } from '../../lib/client';

/** A list found in an answer: a connection's rows, or a plain list. */
export interface Rows {
  rows: Json[];
  /** What stands beside the rows: `totalCount`, `pageInfo`. */
  beside: [string, Json][];
}

export function rowsOf(value: Json): Rows | null {
  if (Array.isArray(value)) return { rows: value, beside: [] };
  if (!isObject(value)) return null;
  const list = value['nodes'] ?? value['edges'];
  if (!Array.isArray(list)) return null;
  const beside = Object.entries(value as JsonObject).filter(([name]) => name !== 'nodes' && name !== 'edges');
  return { rows: list as Json[], beside };
}

/** The columns of a table of rows, in the order in which they first occur. Nested single objects are flattened. */
export function columnsOf(rows: Json[]): string[] {
  const columns = new Set<string>();
  for (const row of rows) {
    for (const [name] of flatten(row)) columns.add(name);
  }
  return [...columns];
}

/** The cells of a row: `region: { name: "x" }` becomes `region.name: "x"`. */
export function flatten(row: Json, prefix = ''): [string, Json][] {
  if (!isObject(row) || rowsOf(row as Json) !== null) return [[prefix === '' ? 'value' : prefix, row]];
  return Object.entries(row as JsonObject).flatMap(([name, value]) => {
    const path = prefix === '' ? name : `${prefix}.${name}`;
    return isObject(value) && rowsOf(value) === null ? flatten(value, path) : [[path, value] as [string, Json]];
  });
}

export type ParsedVariables = { ok: true; variables: JsonObject } | { ok: false; message: string };

export function parseVariables(text: string): ParsedVariables {
  if (text.trim() === '') return { ok: true, variables: {} };
  try {
    const value: unknown = JSON.parse(text);
    if (isObject(value)) return { ok: true, variables: value as JsonObject };
    return { ok: false, message: 'Variables are one JSON object, such as { "first": 3 }.' };
  } catch (error) {
    return { ok: false, message: `Variables are no JSON: ${error instanceof Error ? error.message : String(error)}` };
  }
}

export function milliseconds(microseconds: number): string {
  return `${(microseconds / 1000).toFixed(2)} ms`;
}

export const FIRST_DOCUMENT = `# Ctrl-Enter (or ⌘-Enter) runs the request; Ctrl-Space completes names.
query First {
  __typename
}
`;

const STORED = { document: 'puente.ask.document', variables: 'puente.ask.variables' } as const;

export function remembered(what: keyof typeof STORED): string | null {
  return localStorage.getItem(STORED[what]);
}

export function remember(what: keyof typeof STORED, text: string): void {
  localStorage.setItem(STORED[what], text);
}

/** The names of a document's operations, read off its text; enough to offer a choice. */
export function operationNames(document: string): string[] {
  const bare = document.replace(/#.*|"""[^]*?"""|"(?:\\.|[^"\\\n])*"/g, ' ');
  return [...bare.matchAll(/\b(?:query|mutation)\s+([_A-Za-z]\w*)/g)].map((match) => match[1] ?? '');
}
