// The smallest client: one function, no cache.

import { GraphQLClient, gql } from 'graphql-request';
import { address, authorization, expect, version } from './service.mjs';

const client = new GraphQLClient(address, { headers: { authorization } });
const data = await client.request(gql`query Huts($first: Int!) { huts(first: $first) { nodes { name } } }`, { first: 2 });
expect(data.huts.nodes.length === 2, 'two huts', data);
let told = '';
await client.request(gql`{ hats { name } }`).catch((error) => (told = error.message));
expect(told.includes('hats'), "the service's own words", told);
console.log(`graphql-request ${await version('graphql-request')}: defaults, errors`);
