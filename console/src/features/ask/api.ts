import { buildClientSchema, getIntrospectionQuery, type GraphQLSchema, type IntrospectionQuery } from 'graphql';
import { send, type Ask } from '../../lib/client';

/** The live schema of whom one looks as, by the standard introspection query. */
export async function loadSchema(key: string, as: Ask['as'], signal?: AbortSignal): Promise<GraphQLSchema> {
  const document = getIntrospectionQuery({ oneOf: true, specifiedByUrl: true });
  const outcome = await send(
    key,
    { document, variables: {}, statements: false, ...(as === undefined ? {} : { as }) },
    signal,
  );
  if (outcome.kind === 'unauthenticated') throw new Error(outcome.message);
  if (outcome.kind === 'failed') throw new Error(`${outcome.message} ${outcome.remedy}`);
  const { data, problems } = outcome.answer;
  if (data === null) throw new Error(problems[0]?.message ?? 'The schema is empty.');
  return buildClientSchema(data as unknown as IntrospectionQuery);
}
