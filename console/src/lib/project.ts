/** The service's interface for the console, `/project/…`: typed by its own description, every failure in one shape. */

import type { Finding, Me, paths } from './interface';

/** Something was not done: a word for programs, a sentence for people, and what belongs to it. */
export class Refused extends Error {
  constructor(
    readonly status: number,
    readonly code: string,
    message: string,
    readonly findings: Finding[] = [],
    readonly now: string | null = null,
  ) {
    super(message);
  }
}

type Method = 'get' | 'post' | 'delete';
type Json200<T> = T extends { responses: { 200: { content: { 'application/json': infer Body } } } } ? Body : never;
type Posted<T> = T extends { requestBody: { content: { 'application/json': infer Body } } } ? Body : undefined;
type PathsWith<M extends Method> = {
  [P in keyof paths]: paths[P] extends Record<M, infer Operation>
    ? [Json200<Operation>] extends [never]
      ? never
      : P
    : never;
}[keyof paths];
type Operation<P extends keyof paths, M extends Method> = paths[P] extends Record<M, infer Found> ? Found : never;

/** Values for the places in a path, and for the query string. */
interface Places {
  path?: Record<string, string>;
  query?: Record<string, string>;
}

export function get<P extends PathsWith<'get'>>(
  key: string,
  path: P,
  places: Places = {},
  signal?: AbortSignal,
): Promise<Json200<Operation<P, 'get'>>> {
  return call(key, 'GET', address(path, places), undefined, signal) as Promise<Json200<Operation<P, 'get'>>>;
}

export function post<P extends PathsWith<'post'>>(
  key: string,
  path: P,
  body: Posted<Operation<P, 'post'>>,
  signal?: AbortSignal,
): Promise<Json200<Operation<P, 'post'>>> {
  return call(key, 'POST', path, body ?? {}, signal) as Promise<Json200<Operation<P, 'post'>>>;
}

export function remove<P extends PathsWith<'delete'>>(key: string, path: P): Promise<Json200<Operation<P, 'delete'>>> {
  return call(key, 'DELETE', path, undefined) as Promise<Json200<Operation<P, 'delete'>>>;
}

export const askWho = (key: string, signal?: AbortSignal): Promise<Me> => get(key, '/project/me', {}, signal);

function address(path: string, { path: values = {}, query }: Places): string {
  const filled = path.replace(/\{(\w+)\}/g, (_, name: string) => encodeURIComponent(values[name] ?? ''));
  return query ? `${filled}?${new URLSearchParams(query).toString()}` : filled;
}

async function call(key: string, method: string, path: string, body: unknown, signal?: AbortSignal): Promise<unknown> {
  let response: Response;
  try {
    response = await fetch(path, {
      method,
      headers: {
        Authorization: `Bearer ${key}`,
        ...(body === undefined ? {} : { 'Content-Type': 'application/json' }),
      },
      body: body === undefined ? null : JSON.stringify(body),
      signal: signal ?? null,
    });
  } catch (error) {
    if (signal?.aborted) throw error;
    const why = error instanceof Error ? error.message : String(error);
    throw new Refused(
      0,
      'UNREACHABLE',
      `The service cannot be reached (${why}). Is it still running? Start it and try again.`,
    );
  }
  let answer: unknown;
  try {
    answer = await response.json();
  } catch {
    const status = String(response.status);
    const text = `The service answered with status ${status} and no JSON. Something between this page and the service may have answered instead of it.`;
    throw new Refused(response.status, 'UNREADABLE', text);
  }
  if (response.ok) return answer;
  const refusal = answer as { code?: string; message?: string; findings?: Finding[]; now?: string };
  throw new Refused(
    response.status,
    refusal.code ?? 'INTERNAL',
    refusal.message ?? 'The service did not say why.',
    refusal.findings,
    refusal.now ?? null,
  );
}
