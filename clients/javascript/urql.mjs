// A small client with a normalising cache and with documents by hash.

import { readFile } from 'node:fs/promises';
import { Client, fetchExchange, gql } from '@urql/core';
import { cacheExchange } from '@urql/exchange-graphcache';
import { persistedExchange } from '@urql/exchange-persisted';
import { address, counted, expect, version } from './service.mjs';

const known = JSON.parse(await readFile(process.env.PUENTE_CACHE_KEYS, 'utf8'));
const key = (fields) => (fields ? (row) => fields.map((field) => row[field]).join(':') : () => null);
const keys = Object.fromEntries(Object.entries(known).map(([type, fields]) => [type, key(fields)]));
const network = counted();
const client = new Client({
  url: address,
  fetch: network.fetch,
  preferGetMethod: false,
  exchanges: [cacheExchange({ keys }), persistedExchange({ enforcePersistedQueries: false, enableForMutation: false }), fetchExchange],
});

const query = gql`query Huts { huts(first: 3) { nodes { id name } pageInfo { endCursor } } }`;
const first = await client.query(query, {}).toPromise();
expect(!first.error && first.data.huts.nodes.length === 3, 'three huts', first.error ?? first.data);
const hut = first.data.huts.nodes[0];
const rename = gql`mutation Rename($id: Int!, $name: String!) { updateHut(key: { id: $id }, set: { name: $name }) { node { id name } } }`;
const changed = await client.mutation(rename, { id: hut.id, name: `${hut.name} (new)` }).toPromise();
expect(!changed.error, 'a change', changed.error);
const before = network.sent.length;
const again = await client.query(query, {}).toPromise();
expect(again.data.huts.nodes[0].name === `${hut.name} (new)`, 'the cached row follows the change', again.data);
expect(network.sent.length === before, 'nothing asked again', network.sent.length - before);
await client.mutation(rename, { id: hut.id, name: hut.name }).toPromise();
const wrong = await client.query(gql`query Wrong { hats { name } }`, {}).toPromise();
expect(wrong.error?.message.includes('hats'), "the service's own words", wrong.error?.message);
console.log(`@urql/core ${await version('@urql/core')}, exchange-graphcache ${await version('@urql/exchange-graphcache')}, exchange-persisted ${await version('@urql/exchange-persisted')}: normalised cache, changes, errors, documents by hash`);
