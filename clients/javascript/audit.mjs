// The audits of the GraphQL over HTTP specification: every MUST and every SHOULD.

import { auditServer } from 'graphql-http';
import { address, counted, expect, version } from './service.mjs';

const { fetch } = counted();
const results = await auditServer({ url: address, fetchFn: fetch });
const refused = results.filter((result) => result.status === 'error' || result.status === 'warn');
for (const { id, name, status, reason } of refused) console.error(`${status} ${id} ${name}: ${reason}`);
expect(results.length > 50, 'more than fifty audits', results.length);
expect(refused.length === 0, 'every MUST and SHOULD kept', refused.length);
console.log(`graphql-http ${await version('graphql-http')}: ${results.filter((r) => r.status === 'ok').length} audits kept`);
