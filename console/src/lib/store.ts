/** What a person typed or chose, kept in the browser so that it outlives a page. Never secrets. */

import { useCallback, useState } from 'react';

type Area = 'tab' | 'browser';

function area(of: Area): Storage {
  return of === 'tab' ? sessionStorage : localStorage;
}

export function kept<T>(of: Area, name: string, otherwise: T): T {
  const text = area(of).getItem(`puente.${name}`);
  if (text === null) return otherwise;
  try {
    return JSON.parse(text) as T;
  } catch {
    return otherwise;
  }
}

export function keep(of: Area, name: string, value: unknown): void {
  try {
    if (value === undefined || value === null || value === '') area(of).removeItem(`puente.${name}`);
    else area(of).setItem(`puente.${name}`, JSON.stringify(value));
  } catch {
    // A full or forbidden store: what was typed lives as long as the page.
  }
}

/** A state that is kept under a name. */
export function useKept<T>(of: Area, name: string, otherwise: T): [T, (value: T) => void] {
  const [value, setValue] = useState(() => kept(of, name, otherwise));
  const set = useCallback(
    (next: T) => {
      setValue(next);
      keep(of, name, next);
    },
    [name, of],
  );
  return [value, set];
}
