// The most used client, in the two majors that are in use, with its defaults; with its normalising cache, and with documents by hash.

import { createHash } from 'node:crypto';
import { readFile } from 'node:fs/promises';
import { createRequire } from 'node:module';
import { address, counted, expect, version } from './service.mjs';

const keys = JSON.parse(await readFile(process.env.PUENTE_CACHE_KEYS, 'utf8'));
const typePolicies = Object.fromEntries(
  Object.entries(keys).map(([type, fields]) => [type, { keyFields: fields ?? false }]),
);
const require = createRequire(import.meta.url);
const majors = [
  ['apollo-client-3', require('apollo-client-3/core/core.cjs'), require('apollo-client-3/link/persisted-queries/persisted-queries.cjs')],
  ['@apollo/client', await import('@apollo/client'), await import('@apollo/client/link/persisted-queries')],
];

for (const [name, apollo, persisted] of majors) {
  const { ApolloClient, InMemoryCache, HttpLink, gql } = apollo;
  const PersistedLink = persisted.PersistedQueryLink;
  const network = counted();
  const http = new HttpLink({ uri: address, fetch: network.fetch });
  const client = new ApolloClient({ link: http, cache: new InMemoryCache({ typePolicies }) });

  const { data } = await client.query({ query: gql`query Huts { huts(first: 3) { nodes { id name altitude region { id name } } } }` });
  expect(data.huts.nodes.length === 3, `${name}: three huts`, data);
  const hut = data.huts.nodes[0];

  // What is kept is found again wherever it came from, and changed wherever it is.
  const renamed = `${hut.name} (new)`;
  const rename = gql`mutation Rename($id: Int!, $name: String!) { updateHut(key: { id: $id }, set: { name: $name }) { node { id name } } }`;
  await client.mutate({ mutation: rename, variables: { id: hut.id, name: renamed } });
  const before = network.sent.length;
  const again = await client.query({ query: gql`query Huts { huts(first: 3) { nodes { id name altitude region { id name } } } }` });
  expect(again.data.huts.nodes[0].name === renamed, `${name}: the cached row follows the change`, again.data.huts.nodes[0]);
  expect(network.sent.length === before, `${name}: nothing asked again`, network.sent.length - before);
  await client.mutate({ mutation: rename, variables: { id: hut.id, name: hut.name } });

  // Composite keys, and objects that have none.
  const { data: supplies } = await client.query({
    query: gql`query Supplies { supplies(first: 5) { totalCount nodes { hutId item quantity } summary { count } } }`,
  });
  expect(supplies.supplies.nodes.length === 5, `${name}: rows of a composite key`, supplies);

  // Our texts are shown.
  let told = '';
  try {
    const result = await client.query({ query: gql`query Wrong { hats { name } }` });
    told = JSON.stringify(result);
  } catch (error) {
    told = error.message + JSON.stringify(error.errors ?? error.graphQLErrors ?? '');
  }
  expect(told.includes('hats'), `${name}: the service's own words`, told);

  // Documents by their hash: with a service that keeps none the client sends the document.
  const sha256 = (text) => createHash('sha256').update(text).digest('hex');
  const link = PersistedLink ? new PersistedLink({ sha256 }) : persisted.createPersistedQueryLink({ sha256 });
  const hashed = new ApolloClient({ link: link.concat(http), cache: new InMemoryCache({ typePolicies }) });
  const byHash = await hashed.query({ query: gql`query ByHash { regions(first: 1) { nodes { id name } } }` });
  expect(byHash.data.regions.nodes.length === 1, `${name}: by hash`, byHash);
  console.log(`${name} ${await version(name)}: defaults, normalised cache, changes, errors, documents by hash`);
}
