import { graphql } from './gql';
import type { HutsQuery } from './gql/graphql';

export const document = graphql(`
  query Huts($first: Int!) {
    huts(first: $first) {
      nodes {
        name
        altitude
        region {
          name
        }
      }
    }
  }
`);

// Under strict: what may be null has to be looked at.
export function names(data: HutsQuery): string[] {
  return (data.huts?.nodes ?? []).map((hut) => `${String(hut.name)} ${String(hut.region?.name)}`);
}
