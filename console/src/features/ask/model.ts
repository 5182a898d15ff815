/** What the Ask page decides, apart from how it looks. */

import {
  getNamedType,
  getNullableType,
  isEnumType,
  isListType,
  isObjectType,
  isScalarType,
  parse,
  type FieldNode,
  type GraphQLObjectType,
  type GraphQLOutputType,
  type GraphQLSchema,
  type OperationDefinitionNode,
} from 'graphql';
import { isObject, type Json, type JsonObject } from '../../lib/client';

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

/** The operations of a document; none where it cannot be read yet. */
export function operationsOf(document: string): OperationDefinitionNode[] {
  try {
    return parse(document).definitions.filter((definition) => definition.kind === 'OperationDefinition');
  } catch {
    return [];
  }
}

/** The names of a document's operations. */
export function operationNames(document: string): string[] {
  return operationsOf(document).flatMap((operation) => (operation.name ? [operation.name.value] : []));
}

/** Would the operation change something? */
export function isMutation(document: string, name: string | undefined): boolean {
  const operations = operationsOf(document);
  const chosen = operations.find((operation) => operation.name?.value === name) ?? operations[0];
  return chosen?.operation === 'mutation';
}

/** The type of the rows of a field that lists them in pages. */
function rowType(type: GraphQLOutputType): GraphQLObjectType | null {
  const named = getNamedType(type);
  const nodes = isObjectType(named) ? named.getFields()['nodes'] : undefined;
  const row = nodes ? getNamedType(nodes.type) : null;
  return isObjectType(row) ? row : null;
}

const MOST_FIELDS = 7;

/** A first query for a schema: rows of a type, or of the one that has most to show, with what they are linked to. */
export function firstDocument(schema: GraphQLSchema, wanted?: string): string {
  const lists = Object.values(schema.getQueryType()?.getFields() ?? {}).flatMap((field) => {
    const row = rowType(field.type);
    return row ? [{ field, row }] : [];
  });
  const links = (row: GraphQLObjectType) =>
    Object.values(row.getFields()).filter((field) => isObjectType(getNamedType(field.type))).length;
  const chosen =
    lists.find(({ row }) => row.name === wanted) ?? [...lists].sort((a, b) => links(b.row) - links(a.row))[0];
  const hint = '# Ctrl-Enter (or ⌘-Enter) runs the request; Ctrl-Space completes names.\n';
  if (!chosen) return `${hint}query First {\n  __typename\n}\n`;
  const leaves = Object.values(chosen.row.getFields()).filter((field) => {
    const named = getNamedType(field.type);
    return (isScalarType(named) || isEnumType(named)) && named.name !== 'JSON' && field.name !== 'revision';
  });
  const lines = leaves.slice(0, MOST_FIELDS).map((field) => `      ${field.name}`);
  const linked = Object.values(chosen.row.getFields()).find((field) => {
    const nullable = getNullableType(field.type);
    return (
      isObjectType(nullable) &&
      !isListType(nullable) &&
      rowType(field.type) === null &&
      bestName(nullable) !== null &&
      field.args.length === 0
    );
  });
  if (linked)
    lines.push(`      ${linked.name} { ${bestName(getNamedType(linked.type) as GraphQLObjectType) ?? '__typename'} }`);
  const connection = getNamedType(chosen.field.type) as GraphQLObjectType;
  const total = 'totalCount' in connection.getFields() ? '    totalCount\n' : '';
  const page = 'pageInfo' in connection.getFields() ? '    pageInfo { hasNextPage endCursor }\n' : '';
  return `${hint}query First {\n  ${chosen.field.name}(first: 10) {\n${total}    nodes {\n${lines.join('\n')}\n    }\n${page}  }\n}\n`;
}

/** The field by which a person knows a row. */
function bestName(type: GraphQLObjectType): string | null {
  const fields = Object.values(type.getFields());
  const isText = (name: string) =>
    fields.some((field) => field.name === name && getNamedType(field.type).name === 'String');
  if (isText('name')) return 'name';
  if (isText('title')) return 'title';
  return (
    fields.find(
      (field) => getNamedType(field.type).name === 'String' && field.args.length === 0 && field.name !== 'revision',
    )?.name ?? null
  );
}

/** The next page of a list in an answer: the document and variables that ask for it. */
export interface NextPage {
  field: string;
  document: string;
  variables: string;
}

/** The lists at the root of an answer that have a next page. Asking needs `pageInfo { hasNextPage endCursor }` in the document. */
export function nextPages(
  document: string,
  name: string | undefined,
  variables: string,
  data: JsonObject | null,
): NextPage[] {
  const operations = operationsOf(document);
  const chosen = operations.find((operation) => operation.name?.value === name) ?? operations[0];
  if (!chosen || data === null) return [];
  return chosen.selectionSet.selections.flatMap((selection) => {
    if (selection.kind !== 'Field') return [];
    const answered: Json | undefined = data[selection.alias?.value ?? selection.name.value];
    const info = isObject(answered) ? (answered as JsonObject)['pageInfo'] : undefined;
    if (!isObject(info) || info['hasNextPage'] !== true || typeof info['endCursor'] !== 'string') return [];
    return [after(document, selection, info['endCursor'], variables)];
  });
}

/** The document with a field asked from a position on; a variable that says the position says another one. */
function after(document: string, field: FieldNode, cursor: string, variables: string): NextPage {
  const name = field.alias?.value ?? field.name.value;
  const argument = field.arguments?.find((argument) => argument.name.value === 'after');
  if (argument?.value.kind === 'Variable') {
    const parsed = parseVariables(variables);
    const known = parsed.ok ? parsed.variables : {};
    return {
      field: name,
      document,
      variables: JSON.stringify({ ...known, [argument.value.name.value]: cursor }, null, 2),
    };
  }
  const put = (from: number, to: number, text: string) => document.slice(0, from) + text + document.slice(to);
  const written = JSON.stringify(cursor);
  const last = field.arguments?.at(-1)?.loc;
  if (argument?.value.loc)
    return { field: name, variables, document: put(argument.value.loc.start, argument.value.loc.end, written) };
  if (last) return { field: name, variables, document: put(last.end, last.end, `, after: ${written}`) };
  const end = field.name.loc?.end ?? 0;
  return { field: name, variables, document: put(end, end, `(after: ${written})`) };
}
