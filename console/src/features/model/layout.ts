/** Where types stand in the diagram: groups by source and by how they hang together, laid out one by one, then packed. */

import dagre from '@dagrejs/dagre';
import type { ModelOverview, TypeOverview } from '../../lib/interface';

export interface Placed {
  name: string;
  x: number;
  y: number;
}

/** A line between two types: what links them, both ways. A link from many to many is one line. */
export interface Line {
  from: string;
  to: string;
  /** The fields on either side, as words. */
  words: string[];
  /** The join table's type, for a link from many to many. */
  through: string | null;
  crosses: boolean;
}

export interface Group {
  label: string;
  x: number;
  y: number;
  width: number;
  height: number;
}

export interface Layout {
  places: Map<string, Placed>;
  groups: Group[];
  width: number;
  height: number;
}

export const NODE = { width: 172, height: 44 } as const;
/** Types from which on groups are laid out by a cheaper way: nobody follows single lines among so many. */
const MANY = 150;
/** Types of one group at most: more are cut where they hang together least. */
const MOST_IN_GROUP = 36;
const PADDING = 24;
const HEADING = 22;
const APART = 36;

/** The types that are join tables alone: between two others, which are linked directly over them. */
export function joinTables(model: ModelOverview): Set<string> {
  return new Set(model.types.flatMap((type) => type.links.flatMap((link) => (link.through ? [link.through] : []))));
}

/** The lines between the types that are shown. */
export function linesOf(types: TypeOverview[]): Line[] {
  const shown = new Set(types.map((type) => type.name));
  const lines = new Map<string, Line>();
  for (const type of types) {
    for (const link of type.links) {
      if (!shown.has(link.target)) continue;
      const through = link.through ?? null;
      const ends = [type.name, link.target].sort();
      const name = `${ends.join(' ')} ${through ?? ''}`;
      const word = `${type.name}.${link.field} → ${link.target}${link.many ? ' (many)' : ''}`;
      const known = lines.get(name);
      if (known) known.words.push(word);
      else lines.set(name, { from: type.name, to: link.target, words: [word], through, crosses: link.crosses });
    }
  }
  return [...lines.values()];
}

/** The types within so many steps of one. */
export function neighbours(lines: Line[], of: string, steps: number): Set<string> {
  const found = new Set([of]);
  for (let step = 0; step < steps; step += 1) {
    const reached = lines.flatMap((line) => (found.has(line.from) ? [line.to] : found.has(line.to) ? [line.from] : []));
    reached.forEach((name) => found.add(name));
  }
  return found;
}

export function layOut(types: TypeOverview[], lines: Line[]): Layout {
  const sources = [...new Set(types.map((type) => type.source))];
  const boxes = sources.flatMap((source) => {
    const own = types.filter((type) => type.source === source).map((type) => type.name);
    const within = lines.filter((line) => own.includes(line.from) && own.includes(line.to) && line.from !== line.to);
    const parts = communities(own, within);
    return parts.map((part) =>
      box(part, within, labelOf(part, within, source, sources.length > 1, parts.length), types.length >= MANY),
    );
  });
  return pack(boxes);
}

interface Box {
  label: string;
  places: Placed[];
  width: number;
  height: number;
}

function labelOf(part: string[], lines: Line[], source: string, several: boolean, parts: number): string {
  const before = several ? `${source}: ` : '';
  if (parts === 1) return several ? source : '';
  const degree = (name: string) => lines.filter((line) => line.from === name || line.to === name).length;
  const centre = part.reduce((best, name) => (degree(name) > degree(best) ? name : best), part[0] ?? '');
  if (degree(centre) === 0) return `${before}without links`;
  const inside = new Set(part);
  const held = lines.filter((line) => inside.has(line.from) && inside.has(line.to)).length;
  return held * 2 < part.length ? `${before}others` : `${before}around ${centre}`;
}

/** Types that hang together. Those without links are one group; one that is too large is cut by where its types point most. */
function communities(names: string[], lines: Line[]): string[][] {
  const near = new Map<string, string[]>(names.map((name) => [name, []]));
  for (const line of lines) {
    near.get(line.from)?.push(line.to);
    near.get(line.to)?.push(line.from);
  }
  const seen = new Set<string>();
  const alone: string[] = [];
  const parts: string[][] = [];
  for (const name of names) {
    if (seen.has(name)) continue;
    const part = reachable(name, near, seen);
    if (part.length === 1) alone.push(name);
    else parts.push(...(part.length <= MOST_IN_GROUP ? [part] : cut(part, near)));
  }
  if (alone.length > 0) parts.push(alone);
  return parts;
}

function reachable(from: string, near: Map<string, string[]>, seen: Set<string>): string[] {
  const part = [from];
  seen.add(from);
  for (const name of part) {
    for (const next of near.get(name) ?? []) {
      if (seen.has(next)) continue;
      seen.add(next);
      part.push(next);
    }
  }
  return part;
}

/** Cuts a large part: from the types with most links outwards, each takes its free neighbours until the group is full. */
function cut(part: string[], near: Map<string, string[]>): string[][] {
  const free = new Set(part);
  const degree = (name: string) => near.get(name)?.length ?? 0;
  const order = [...part].sort((a, b) => degree(b) - degree(a));
  const groups: string[][] = [];
  for (const centre of order) {
    if (!free.delete(centre)) continue;
    const group = [centre];
    for (const name of group) {
      for (const next of near.get(name) ?? []) {
        if (group.length < MOST_IN_GROUP && free.delete(next)) group.push(next);
      }
    }
    groups.push(group);
  }
  return merge(groups);
}

/** Small leftovers stand together rather than each alone. */
function merge(groups: string[][]): string[][] {
  const few = groups.filter((group) => group.length < 4).flat();
  const rest = groups.filter((group) => group.length >= 4);
  for (let at = 0; at < few.length; at += MOST_IN_GROUP) rest.push(few.slice(at, at + MOST_IN_GROUP));
  return rest;
}

function box(names: string[], lines: Line[], label: string, isOneOfMany: boolean): Box {
  const own = new Set(names);
  const within = lines.filter((line) => own.has(line.from) && own.has(line.to));
  const places = within.length === 0 ? grid(names) : isOneOfMany ? ringed(names, within) : layered(names, within);
  const width = Math.max(...places.map((place) => place.x)) + NODE.width / 2 + PADDING;
  const height = Math.max(...places.map((place) => place.y)) + NODE.height / 2 + PADDING;
  return { label, places, width, height };
}

function grid(names: string[]): Placed[] {
  const columns = Math.max(1, Math.round(Math.sqrt((names.length * NODE.height) / NODE.width) * 1.6));
  return names.map((name, index) => ({
    name,
    x: PADDING + NODE.width / 2 + (index % columns) * (NODE.width + 16),
    y: PADDING + HEADING + NODE.height / 2 + Math.floor(index / columns) * (NODE.height + 16),
  }));
}

function layered(names: string[], lines: Line[]): Placed[] {
  const graph = new dagre.graphlib.Graph();
  graph.setGraph({
    rankdir: 'LR',
    nodesep: 18,
    ranksep: 64,
    marginx: PADDING,
    marginy: PADDING,
    ranker: names.length > 24 ? 'longest-path' : 'network-simplex',
  });
  graph.setDefaultEdgeLabel(() => ({}));
  names.forEach((name) => graph.setNode(name, { width: NODE.width, height: NODE.height }));
  lines.forEach((line) => graph.setEdge(line.from, line.to));
  dagre.layout(graph);
  return names.map((name) => {
    const node = graph.node(name) as { x: number; y: number };
    return { name, x: node.x, y: node.y + HEADING };
  });
}

/** Columns by the steps from the type with most links, each column in the order of what it hangs on. */
function ringed(names: string[], lines: Line[]): Placed[] {
  const near = new Map<string, string[]>(names.map((name) => [name, []]));
  for (const line of lines) {
    near.get(line.from)?.push(line.to);
    near.get(line.to)?.push(line.from);
  }
  const degree = (name: string) => near.get(name)?.length ?? 0;
  const centre = names.reduce((best, name) => (degree(name) > degree(best) ? name : best), names[0] ?? '');
  const columns: string[][] = [[centre]];
  const seen = new Set([centre]);
  for (const column of columns) {
    const next = column.flatMap((name) => near.get(name) ?? []).filter((name) => !seen.has(name) && seen.add(name));
    const rest = next.length > 0 ? next : names.filter((name) => !seen.has(name) && seen.add(name));
    if (rest.length > 0) columns.push(rest);
  }
  const tallest = Math.max(...columns.map((column) => Math.min(column.length, TALLEST)));
  let x = PADDING + NODE.width / 2;
  return columns.flatMap((column) => {
    const parts = Math.ceil(column.length / TALLEST);
    const rows = Math.ceil(column.length / parts);
    const placed = column.map((name, index) => ({
      name,
      x: x + Math.floor(index / rows) * (NODE.width + 16),
      y: PADDING + HEADING + NODE.height / 2 + ((index % rows) + (tallest - rows) / 2) * (NODE.height + 14),
    }));
    x += parts * (NODE.width + 16) + 40;
    return placed;
  });
}

/** Types below each other in one column at most. */
const TALLEST = 9;

/** Groups in rows, about as wide as a screen is. */
function pack(boxes: Box[]): Layout {
  const order = [...boxes].sort((a, b) => b.height - a.height);
  const area = order.reduce((sum, { width, height }) => sum + (width + APART) * (height + APART), 0);
  const widest = Math.max(0, ...order.map(({ width }) => width));
  const limit = Math.max(widest, Math.sqrt(area * 1.7));
  const layout: Layout = { places: new Map(), groups: [], width: 0, height: 0 };
  let x = 0;
  let y = 0;
  let tallest = 0;
  for (const { label, places, width, height } of order) {
    if (x > 0 && x + width > limit) {
      x = 0;
      y += tallest + APART;
      tallest = 0;
    }
    layout.groups.push({ label, x, y, width, height });
    for (const place of places) layout.places.set(place.name, { name: place.name, x: place.x + x, y: place.y + y });
    tallest = Math.max(tallest, height);
    layout.width = Math.max(layout.width, x + width);
    layout.height = Math.max(layout.height, y + height);
    x += width + APART;
  }
  return layout;
}

/** The type that stands next to one in a direction; none where nothing is there. */
export function towards(
  places: Map<string, Placed>,
  from: string,
  direction: 'up' | 'down' | 'left' | 'right',
): string | null {
  const start = places.get(from);
  if (!start) return null;
  let best: { name: string; far: number } | null = null;
  for (const place of places.values()) {
    const dx = place.x - start.x;
    const dy = place.y - start.y;
    const along = direction === 'left' ? -dx : direction === 'right' ? dx : direction === 'up' ? -dy : dy;
    const aside = direction === 'left' || direction === 'right' ? Math.abs(dy) : Math.abs(dx);
    if (place.name === from || along <= 1) continue;
    const far = along + aside * 2.5;
    if (best === null || far < best.far) best = { name: place.name, far };
  }
  return best?.name ?? null;
}
