// Relay as its defaults expect it: the compiler on the service's schema, a refetchable fragment on a type, and the runtime's store. The
// service has `global_ids = true`.

import { execFileSync } from 'node:child_process';
import { cp, mkdir, mkdtemp, readdir, readFile, rm, symlink, writeFile } from 'node:fs/promises';
import { createRequire } from 'node:module';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { address, authorization, counted, expect, version } from './service.mjs';

const folder = await mkdtemp(join(tmpdir(), 'relay-'));
try {
  const schema = await fetch(address.replace('/graphql', '/schema.graphql'), { headers: { authorization } });
  await mkdir(join(folder, 'src'));
  await writeFile(join(folder, 'schema.graphql'), await schema.text());
  await cp(new URL('relay', import.meta.url), join(folder, 'src'), { recursive: true });
  await symlink(new URL('node_modules', import.meta.url).pathname, join(folder, 'node_modules'));
  const config = { src: './src', schema: './schema.graphql', language: 'javascript', eagerEsModules: false };
  await writeFile(join(folder, 'relay.config.json'), JSON.stringify(config));
  const compiler = new URL('node_modules/relay-compiler/cli.js', import.meta.url).pathname;
  execFileSync(process.execPath, [compiler, 'relay.config.json'], { cwd: folder, stdio: ['ignore', 'ignore', 'inherit'] });
  const made = await readdir(join(folder, 'src/__generated__'));
  expect(made.includes('HutRefetchQuery.graphql.js'), 'a query made for the refetchable fragment', made);

  const require = createRequire(join(folder, 'src/index.js'));
  const runtime = require('relay-runtime');
  const artifact = (name) => require(`./__generated__/${name}.graphql.js`);
  const network = counted();
  const ask = async (operation, variables) => {
    const body = JSON.stringify({ query: operation.text, variables });
    const headers = { 'content-type': 'application/json' };
    return (await network.fetch(address, { method: 'POST', headers, body })).json();
  };
  const environment = new runtime.Environment({
    network: runtime.Network.create(ask),
    store: new runtime.Store(new runtime.RecordSource()),
  });
  const fetched = await runtime.fetchQuery(environment, artifact('HutsQuery'), { first: 2 }).toPromise();
  const hut = fetched.huts.edges[0].node;
  expect(typeof hut.id === 'string' && fetched.huts.edges.length === 2, 'two huts with ids', fetched);

  // The fragment is asked for again by the row's id alone.
  const again = await runtime.fetchQuery(environment, artifact('HutRefetchQuery'), { id: hut.id }).toPromise();
  expect(again.node !== null, 'the row by its id', again);
  const seen = environment.getStore().getSource().get(hut.id);
  expect(seen?.name !== undefined, 'one record in the store, by its id', Object.keys(environment.getStore().getSource().toJSON()));

  // What a change answers is seen where the row was shown.
  const renamed = `${seen.name} (new)`;
  const change = (name) =>
    new Promise((resolve, reject) => {
      const mutation = artifact('RenameMutation');
      runtime.commitMutation(environment, { mutation, variables: { id: hut.id, name }, onCompleted: resolve, onError: reject });
    });
  await change(renamed);
  expect(environment.getStore().getSource().get(hut.id).name === renamed, 'the record follows the change', seen);
  await change(seen.name);
  console.log(`relay-compiler and relay-runtime ${await version('relay-runtime')}: compiler, refetchable fragment, store, changes`);
} finally {
  await rm(folder, { recursive: true, force: true });
}
