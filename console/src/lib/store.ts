/** What a person typed or chose, kept in the browser so that it outlives a page. Never secrets. */

import { useCallback, useSyncExternalStore } from 'react';

type Area = 'tab' | 'browser';

/** What is kept, as it was read or written last: whoever looks at one name sees the same. */
const known = new Map<string, unknown>();
const listeners = new Set<() => void>();

function area(of: Area): Storage {
  return of === 'tab' ? sessionStorage : localStorage;
}

export function kept<T>(of: Area, name: string, otherwise: T): T {
  const id = `${of} ${name}`;
  if (known.has(id)) return (known.get(id) ?? otherwise) as T;
  let value: unknown = null;
  try {
    value = JSON.parse(area(of).getItem(`puente.${name}`) ?? 'null');
  } catch {
    // Somebody else wrote it: as if nothing was there.
  }
  known.set(id, value);
  return (value ?? otherwise) as T;
}

export function keep(of: Area, name: string, value: unknown): void {
  known.set(`${of} ${name}`, value);
  try {
    if (value === undefined || value === null || value === '') area(of).removeItem(`puente.${name}`);
    else area(of).setItem(`puente.${name}`, JSON.stringify(value));
  } catch {
    // A full or forbidden store: what was typed lives as long as the page.
  }
  listeners.forEach((listener) => {
    listener();
  });
}

/** Forgets what this tab kept. */
export function forgetTab(): void {
  sessionStorage.clear();
  for (const id of [...known.keys()]) if (id.startsWith('tab ')) known.delete(id);
  listeners.forEach((listener) => {
    listener();
  });
}

function subscribe(listener: () => void): () => void {
  listeners.add(listener);
  return () => listeners.delete(listener);
}

const OTHERWISE = new Map<string, unknown>();

/** A state that is kept under a name: the same for everybody who looks at it. */
export function useKept<T>(of: Area, name: string, otherwise: T): [T, (value: T) => void] {
  // The first one that was given, so that an object written anew with each render is not a change.
  const id = `${of} ${name}`;
  if (!OTHERWISE.has(id)) OTHERWISE.set(id, otherwise);
  const value = useSyncExternalStore(subscribe, () => kept(of, name, OTHERWISE.get(id) as T));
  const set = useCallback(
    (next: T) => {
      keep(of, name, next);
    },
    [name, of],
  );
  return [value, set];
}
