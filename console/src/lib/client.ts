/** One client for the service: adds the access key, cancels, and turns every failure into one shape. */

export type Json = null | boolean | number | string | Json[] | { [member: string]: Json };
export type JsonObject = { [member: string]: Json };

export interface Problem {
  message: string;
  code: string;
  locations: { line: number; column: number }[];
  path: (string | number)[];
}

export interface Statement {
  text: string;
  executions: number;
  rows: number;
  microseconds: number;
}

export interface Answer {
  data: JsonObject | null;
  problems: Problem[];
  statements: Statement[];
  microseconds: number | null;
}

export type Outcome =
  | { kind: 'answered'; answer: Answer }
  | { kind: 'unauthenticated'; message: string }
  | { kind: 'failed'; message: string; remedy: string };

export interface Ask {
  document: string;
  operationName?: string;
  variables: JsonObject;
  /** Is what was sent to the sources to be told? For the owner. */
  statements: boolean;
  /** As whom, where not as the key's own role: a role of the key, or for the owner any role with claims. */
  as?: string | { role: string; claims: JsonObject };
  /** Is a mutation run for real and rolled back? */
  rehearse?: boolean;
}

export async function send(key: string, ask: Ask, signal?: AbortSignal): Promise<Outcome> {
  let response: Response;
  try {
    response = await fetch('/graphql', {
      method: 'POST',
      headers: {
        Authorization: `Bearer ${key}`,
        'Content-Type': 'application/json',
        Accept: 'application/graphql-response+json',
      },
      body: JSON.stringify({
        query: ask.document,
        operationName: ask.operationName,
        variables: ask.variables,
        extensions: {
          ...(ask.statements ? { statements: true } : {}),
          ...(ask.as === undefined ? {} : { as: ask.as }),
          ...(ask.rehearse ? { rehearse: true } : {}),
        },
      }),
      signal: signal ?? null,
    });
  } catch (error) {
    if (signal?.aborted)
      return { kind: 'failed', message: 'Stopped.', remedy: 'Nothing waits for this request any more.' };
    return {
      kind: 'failed',
      message: `The service cannot be reached (${error instanceof Error ? error.message : String(error)}).`,
      remedy: 'Is it still running? Start it and ask again.',
    };
  }
  let body: unknown;
  try {
    body = await response.json();
  } catch {
    return {
      kind: 'failed',
      message: `The service answered with status ${String(response.status)} and no JSON.`,
      remedy: 'Something between this page and the service may have answered instead of it.',
    };
  }
  const answer = parse(body);
  const first = answer.problems[0];
  if (response.status === 401) {
    return { kind: 'unauthenticated', message: first?.message ?? 'This access key is not accepted.' };
  }
  return { kind: 'answered', answer };
}

/** Reads a response's body. What is not as the GraphQL specification has it is left out. */
export function parse(body: unknown): Answer {
  const whole = isObject(body) ? body : {};
  const extensions = isObject(whole['extensions']) ? whole['extensions'] : {};
  const statements = Array.isArray(extensions['statements']) ? extensions['statements'] : [];
  const errors = Array.isArray(whole['errors']) ? whole['errors'] : [];
  return {
    data: isObject(whole['data']) ? (whole['data'] as JsonObject) : null,
    problems: errors.filter(isObject).map(problem),
    statements: statements.filter(isObject).map((statement) => ({
      text: text(statement['text']),
      executions: number(statement['executions']),
      rows: number(statement['rows']),
      microseconds: number(statement['microseconds']),
    })),
    microseconds: typeof extensions['microseconds'] === 'number' ? extensions['microseconds'] : null,
  };
}

function problem(error: Record<string, unknown>): Problem {
  const extensions = isObject(error['extensions']) ? error['extensions'] : {};
  const locations = Array.isArray(error['locations']) ? error['locations'].filter(isObject) : [];
  const path = Array.isArray(error['path']) ? error['path'] : [];
  return {
    message: text(error['message']),
    code: text(extensions['code']),
    locations: locations.map((place) => ({ line: number(place['line']), column: number(place['column']) })),
    path: path.filter((step) => typeof step === 'string' || typeof step === 'number'),
  };
}

export function isObject(value: unknown): value is Record<string, unknown> {
  return typeof value === 'object' && value !== null && !Array.isArray(value);
}

const text = (value: unknown): string => (typeof value === 'string' ? value : '');
const number = (value: unknown): number => (typeof value === 'number' ? value : 0);
