/** Who am I? The role that pages show the world as, in the address; its claims, which are a person's, stay in this tab. */

import { useNavigate, useSearch } from '@tanstack/react-router';
import { useCallback } from 'react';
import { isObject, type JsonObject } from './client';
import { useSession } from './session';
import { kept, keep, useKept } from './store';

export interface As {
  /** The role; the key's own where none is chosen. */
  role: string;
  /** Is it the owner looking on as the owner? */
  isOwner: boolean;
  choose: (role: string) => void;
}

export function useAs(): As {
  const { me } = useSession();
  const { as } = useSearch({ strict: false });
  const navigate = useNavigate();
  const role = as !== undefined && me.roles.includes(as) ? as : (me.role ?? 'nobody');
  const choose = useCallback(
    (chosen: string) => {
      void navigate({ to: '.', search: (before) => ({ ...before, as: chosen === me.role ? undefined : chosen }) });
    },
    [me.role, navigate],
  );
  return { role, isOwner: role === 'owner', choose };
}

/** The claims that were entered for a role, as text. */
export function useClaimsText(role: string): [string, (text: string) => void] {
  const [all, setAll] = useKept<Record<string, string>>('tab', 'claims', {});
  const set = useCallback(
    (text: string) => {
      setAll({ ...kept<Record<string, string>>('tab', 'claims', {}), [role]: text });
    },
    [role, setAll],
  );
  return [all[role] ?? '', set];
}

export function claimsOf(role: string): JsonObject {
  const read = readClaims(kept<Record<string, string>>('tab', 'claims', {})[role] ?? '');
  return read.ok ? read.claims : {};
}

export function rememberClaims(role: string, text: string): void {
  keep('tab', 'claims', { ...kept<Record<string, string>>('tab', 'claims', {}), [role]: text });
}

export type ReadClaims = { ok: true; claims: JsonObject } | { ok: false; message: string };

/** Claims as a JSON object, or as `name=value` with commas or new lines between; `sub` is always text. */
export function readClaims(text: string): ReadClaims {
  if (text.trim() === '') return { ok: true, claims: {} };
  if (text.trim().startsWith('{')) {
    try {
      const value: unknown = JSON.parse(text);
      if (isObject(value)) return { ok: true, claims: value as JsonObject };
    } catch (error) {
      return { ok: false, message: `Claims are no JSON: ${error instanceof Error ? error.message : String(error)}` };
    }
    return { ok: false, message: 'Claims are one JSON object, such as { "sub": "7" }.' };
  }
  const claims: JsonObject = {};
  for (const part of text.split(/[,\n]/).filter((part) => part.trim() !== '')) {
    const at = part.indexOf('=');
    const name = part.slice(0, at).trim();
    if (at < 0 || name === '')
      return { ok: false, message: `A claim is said as name=value, such as sub=7; found “${part.trim()}”.` };
    claims[name] = name === 'sub' ? part.slice(at + 1).trim() : valueOf(part.slice(at + 1).trim());
  }
  return { ok: true, claims };
}

function valueOf(text: string): JsonObject[string] {
  try {
    return JSON.parse(text) as JsonObject[string];
  } catch {
    return text;
  }
}
