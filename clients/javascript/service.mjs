// The service that the clients are driven against, and what is said of how it went.

export const address = process.env.PUENTE_URL ?? 'http://127.0.0.1:4810/graphql';
export const authorization = `Bearer ${process.env.PUENTE_KEY ?? ''}`;

/** Ends the program where something is not as it should be. */
export function expect(isSo, what, found) {
  if (isSo) return;
  console.error(`${what}, found ${JSON.stringify(found)}`);
  process.exit(1);
}

/** `fetch` with the key, counting what goes over the network. */
export function counted() {
  const sent = [];
  const fetching = async (url, options = {}) => {
    sent.push(options.body ?? String(url));
    const headers = new Headers(options.headers);
    headers.set('authorization', authorization);
    return fetch(url, { ...options, headers });
  };
  return { sent, fetch: fetching };
}

/** What a package calls its version. */
export async function version(name) {
  const { readFile } = await import('node:fs/promises');
  const file = new URL(`node_modules/${name}/package.json`, import.meta.url);
  return JSON.parse(await readFile(file, 'utf8')).version;
}
