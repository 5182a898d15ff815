/** What an answer is made of, as its document says: which members are fields with fields of their own, and which are values. */

import { parse, type DocumentNode, type FragmentDefinitionNode, type SelectionSetNode } from 'graphql';
import { isObject, type Json, type JsonObject } from '../../lib/client';

/** The members of an object in an answer; absent for a value, whatever is inside of it. */
export type Shape = Map<string, Shape | null>;

/** The shape of an operation's answer; none where the document cannot be read. */
export function shapeOf(document: string, operation?: string): Shape | null {
  let read: DocumentNode;
  try {
    read = parse(document);
  } catch {
    return null;
  }
  const fragments = new Map<string, FragmentDefinitionNode>();
  for (const definition of read.definitions) {
    if (definition.kind === 'FragmentDefinition') fragments.set(definition.name.value, definition);
  }
  const operations = read.definitions.filter((definition) => definition.kind === 'OperationDefinition');
  const chosen = operations.find((of) => of.name?.value === operation) ?? operations[0];
  return chosen ? gather(chosen.selectionSet, fragments, new Map(), 0) : null;
}

const DEEPEST = 40;

function gather(
  set: SelectionSetNode,
  fragments: Map<string, FragmentDefinitionNode>,
  shape: Shape,
  depth: number,
): Shape {
  if (depth > DEEPEST) return shape;
  for (const selection of set.selections) {
    if (selection.kind === 'Field') {
      const name = selection.alias?.value ?? selection.name.value;
      const before = shape.get(name);
      shape.set(
        name,
        selection.selectionSet ? gather(selection.selectionSet, fragments, before ?? new Map(), depth + 1) : null,
      );
    } else if (selection.kind === 'InlineFragment') {
      gather(selection.selectionSet, fragments, shape, depth + 1);
    } else {
      const fragment = fragments.get(selection.name.value);
      if (fragment) gather(fragment.selectionSet, fragments, shape, depth + 1);
    }
  }
  return shape;
}

/** A list found in an answer: a connection's rows, or a plain list. */
export interface Rows {
  rows: Json[];
  shape: Shape | null;
  /** What stands beside the rows: `totalCount`, `pageInfo`. */
  beside: [string, Json][];
}

/** The rows of a value with fields of its own: those of a connection, or of a list. */
export function rowsOf(value: Json, shape: Shape | null): Rows | null {
  if (Array.isArray(value)) return { rows: value, shape, beside: [] };
  if (!isObject(value)) return null;
  const name = 'nodes' in value && Array.isArray(value['nodes']) ? 'nodes' : 'edges';
  const list = value[name];
  if (!Array.isArray(list)) return null;
  const beside = Object.entries(value as JsonObject).filter(([member]) => member !== 'nodes' && member !== 'edges');
  return { rows: list as Json[], shape: shape?.get(name) ?? null, beside };
}

/** A column of a table of rows: the fields that lead to its values, and the shape of what is there. */
export interface AnswerColumn {
  path: string[];
  shape: Shape | null;
  /** Is it a list with rows of its own? */
  nested: boolean;
}

/** The columns of rows. Fields of a single linked row stand beside the row's own, behind a dot; JSON is one value. */
export function columnsOf(rows: Json[], shape: Shape | null, before: string[] = []): AnswerColumn[] {
  if (shape === null) return [{ path: before, shape: null, nested: false }];
  return [...shape].flatMap(([name, inner]) => {
    const path = [...before, name];
    if (inner === null) return [{ path, shape: null, nested: false }];
    const values = rows.map((row) => at(row, path)).filter((value) => value !== null && value !== undefined);
    if (values.some((value) => rowsOf(value, inner) !== null)) return [{ path, shape: inner, nested: true }];
    return columnsOf(rows, inner, path);
  });
}

/** What is at a path in a row; null where a linked row on the way is not there. */
export function at(row: Json, path: string[]): Json | undefined {
  return path.reduce<Json | undefined>((value, name) => {
    if (value === undefined || value === null) return value;
    return isObject(value) ? ((value as JsonObject)[name] ?? (name in value ? null : undefined)) : undefined;
  }, row);
}
