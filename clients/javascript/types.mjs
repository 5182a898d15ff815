// Two generators of TypeScript types, each compiled under `strict`; a linter of schemas, and a differ.

import { execFileSync } from 'node:child_process';
import { cp, mkdtemp, rm, symlink, writeFile } from 'node:fs/promises';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { diff } from '@graphql-inspector/core';
import { buildASTSchema, parse, visit } from 'graphql';
import { address, authorization, expect, version } from './service.mjs';

const folder = await mkdtemp(join(tmpdir(), 'types-'));
const modules = (path) => new URL(`node_modules/${path}`, import.meta.url).pathname;
const run = (program, ...rest) => execFileSync(process.execPath, [modules(program), ...rest], { cwd: folder, stdio: ['ignore', 'pipe', 'inherit'] });
try {
  const answer = await fetch(address.replace('/graphql', '/schema.graphql'), { headers: { authorization } });
  const sdl = await answer.text();
  await writeFile(join(folder, 'schema.graphql'), sdl);
  await cp(new URL('types', import.meta.url), folder, { recursive: true });
  await symlink(modules(''), join(folder, 'node_modules'));
  await writeFile(join(folder, 'package.json'), '{"type":"module"}');

  run('@graphql-codegen/cli/cjs/bin.js', '--config', 'codegen.json');
  run('gql.tada/bin/cli.js', 'generate-output', '--tsconfig', 'tsconfig.json');
  run('typescript/bin/tsc', '--project', 'tsconfig.json');
  console.log(`@graphql-codegen/cli ${await version('@graphql-codegen/cli')}, client-preset ${await version('@graphql-codegen/client-preset')}: compiled under strict`);
  console.log(`gql.tada ${await version('gql.tada')}: compiled under strict`);

  run('eslint/bin/eslint.js', '--max-warnings', '0', 'schema.graphql');
  console.log(`@graphql-eslint/eslint-plugin ${await version('@graphql-eslint/eslint-plugin')}: descriptions, names, inputs, deprecations`);

  const document = parse(sdl);
  const schema = buildASTSchema(document);
  const same = await diff(schema, schema);
  expect(same.length === 0, 'no difference', same);
  const without = visit(document, {
    ObjectTypeDefinition: (type) => (type.name.value === 'Hut' ? undefined : false),
    FieldDefinition: (field) => (field.name.value === 'altitude' ? null : undefined),
  });
  const changes = await diff(schema, buildASTSchema(without));
  expect(changes.length === 1 && changes[0].criticality.level === 'BREAKING', 'a field less is breaking', changes);
  console.log(`@graphql-inspector/core ${await version('@graphql-inspector/core')}: reads it, and tells what breaks`);
} finally {
  await rm(folder, { recursive: true, force: true });
}
