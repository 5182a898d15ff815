/** What kinds of values tables show, and how each is written. */

import { isObject, type Json } from '../../lib/client';

export type Kind = 'number' | 'time' | 'boolean' | 'json' | 'bytes' | 'text';

/** The kind of a scalar of the schema; words of enums and scalars that nobody knows are text. */
export function kindOf(scalar: string): Kind {
  switch (scalar.replace(/[[\]!]/g, '')) {
    case 'Int':
    case 'Float':
    case 'BigInt':
    case 'Decimal':
      return scalar.startsWith('[') ? 'json' : 'number';
    case 'Date':
    case 'Time':
    case 'DateTime':
    case 'LocalDateTime':
      return scalar.startsWith('[') ? 'json' : 'time';
    case 'Boolean':
      return 'boolean';
    case 'JSON':
      return 'json';
    case 'Bytes':
      return 'bytes';
    default:
      return scalar.startsWith('[') ? 'json' : 'text';
  }
}

const MOMENT = /^\d{4}-\d\d-\d\dT\d\d:\d\d/;
const DAY = /^\d{4}-\d\d-\d\d$/;

/** The kind of values of which no type is known. */
export function kindOfValues(values: (Json | undefined)[]): Kind {
  const known = values.filter((value): value is NonNullable<Json> => value !== undefined && value !== null);
  if (known.length === 0) return 'text';
  if (known.every((value) => typeof value === 'number')) return 'number';
  if (known.every((value) => typeof value === 'boolean')) return 'boolean';
  if (known.every((value) => typeof value === 'string' && (MOMENT.test(value) || DAY.test(value)))) return 'time';
  if (known.some((value) => typeof value === 'object')) return 'json';
  return 'text';
}

/** A moment in the reader's zone, to the minute; days and times of no zone as they are. */
export function shortTime(value: string): string {
  const moment = /(Z|[+-]\d\d:?\d\d)$/.test(value) && MOMENT.test(value) ? new Date(value) : null;
  if (moment === null || Number.isNaN(moment.getTime()))
    return value.replace('T', ' ').replace(/(\d\d:\d\d):\d\d(\.\d+)?$/, '$1');
  const two = (number: number) => String(number).padStart(2, '0');
  const day = `${String(moment.getFullYear())}-${two(moment.getMonth() + 1)}-${two(moment.getDate())}`;
  return `${day} ${two(moment.getHours())}:${two(moment.getMinutes())}`;
}

/** A value as plain text: what copying gives. */
export function plain(value: Json | undefined): string {
  if (value === undefined || value === null) return value === null ? 'null' : '';
  return typeof value === 'object' ? JSON.stringify(value) : String(value);
}

/** Bytes that a Base64 text stands for. */
export function bytesOf(base64: string): number {
  return Math.floor((base64.replace(/=+$/, '').length * 3) / 4);
}

export function size(bytes: number): string {
  if (bytes < 1_000) return `${String(bytes)} B`;
  return bytes < 1_000_000 ? `${(bytes / 1_000).toFixed(1)} kB` : `${(bytes / 1_000_000).toFixed(1)} MB`;
}

/** A number with its thousands apart. */
export function grouped(number: number): string {
  return number.toLocaleString('en').replaceAll(',', ' ');
}

/** How many rows a table has, as far as the survey knows. */
export function aboutRows(rows: number | null | undefined): string {
  return rows == null ? 'rows not counted' : `~${grouped(rows)} rows`;
}

/** How wide a column is, by what its first rows hold. */
export function widthOf(label: string, kind: Kind, values: (Json | undefined)[]): number {
  const letters = (text: string) => text.length * 7.6 + 24;
  const longest = values.slice(0, 50).reduce<number>((most, value) => {
    const text =
      kind === 'time' && typeof value === 'string'
        ? shortTime(value)
        : isObject(value)
          ? '{ 12 members }'
          : plain(value ?? null);
    return Math.max(most, letters(text));
  }, 0);
  const most = kind === 'text' || kind === 'json' ? 300 : 240;
  return Math.round(Math.max(56, letters(label) + 12, Math.min(longest, most)));
}
