import { buildClientSchema, getIntrospectionQuery, type GraphQLSchema, type IntrospectionQuery } from 'graphql';
import { send } from '../../lib/client';

export type SchemaState =
  | { kind: 'loading' }
  | { kind: 'ready'; schema: GraphQLSchema; owner: boolean }
  | { kind: 'failed'; message: string }
  | { kind: 'unauthenticated'; message: string };

/** The live schema, by the standard introspection query. Only the owner is shown statements: by that it is known. */
export async function loadSchema(key: string): Promise<SchemaState> {
  const document = getIntrospectionQuery({ oneOf: true, specifiedByUrl: true });
  let outcome = await send(key, { document, variables: {}, statements: true });
  const owner = outcome.kind !== 'answered' || outcome.answer.problems[0]?.code !== 'ROLE_REFUSED';
  if (!owner) outcome = await send(key, { document, variables: {}, statements: false });
  if (outcome.kind === 'unauthenticated') return outcome;
  if (outcome.kind === 'failed') return { kind: 'failed', message: `${outcome.message} ${outcome.remedy}` };
  const { data, problems } = outcome.answer;
  if (data === null) return { kind: 'failed', message: problems[0]?.message ?? 'The schema is empty.' };
  try {
    return { kind: 'ready', schema: buildClientSchema(data as unknown as IntrospectionQuery), owner };
  } catch (error) {
    return { kind: 'failed', message: error instanceof Error ? error.message : String(error) };
  }
}
