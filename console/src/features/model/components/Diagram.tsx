import { memo, useCallback, useEffect, useLayoutEffect, useMemo, useRef, useState, type KeyboardEvent, type PointerEvent } from 'react';
import styled from 'styled-components';
import { theme } from '../../../app/theme';
import type { TypeOverview } from '../../../lib/interface';
import { kept, keep } from '../../../lib/store';
import { IconButton } from '../../../ui/Button';
import { Icon } from '../../../ui/Icon';
import { layOut, linesOf, NODE, towards, type Layout, type Placed } from '../layout';
import { LineShape } from './LineShape';
import { NodeShape } from './NodeShape';

interface Props {
  types: TypeOverview[];
  letters: string;
  focus: string | undefined;
  /** What a role sees; none for the owner. */
  seen: Map<string, Set<string>> | null;
  /** Are moved types remembered? */
  remember: boolean;
  onOpen: (type: string) => void;
  onLink: (from: string, to: string) => void;
}

interface View {
  x: number;
  y: number;
  scale: number;
}

type Drag =
  | { kind: 'pan'; x: number; y: number; view: View }
  | { kind: 'move'; name: string; x: number; y: number; start: Placed; moved: boolean }
  | { kind: 'link'; from: string };

const STORED = 'model.places';
/** Types from which on only those in sight are drawn. */
const CULL_FROM = 150;

/** Types and links. Drag moves, the wheel zooms; by keyboard arrows go from type to type, + and − zoom, Enter opens. */
export function Diagram({ types, letters, focus, seen, remember, onOpen, onLink }: Props) {
  const host = useRef<HTMLDivElement>(null);
  const lines = useMemo(() => linesOf(types), [types]);
  const laid = useMemo<Layout>(() => layOut(types, lines), [lines, types]);
  const [moved, setMoved] = useState<Record<string, [number, number]>>(() => (remember ? kept('browser', STORED, {}) : {}));
  const [view, setView] = useState<View>({ x: 0, y: 0, scale: 1 });
  const [size, setSize] = useState({ width: 1000, height: 600 });
  const [chosen, setActive] = useState<string | null>(focus ?? null);
  const [aim, setAim] = useState<{ x: number; y: number } | null>(null);
  const drag = useRef<Drag | null>(null);
  const [linking, setLinking] = useState<string | null>(null);

  const places = useMemo(() => {
    const all = new Map(laid.places);
    for (const [name, [x, y]] of Object.entries(moved)) if (all.has(name)) all.set(name, { name, x, y });
    return all;
  }, [laid.places, moved]);

  const fit = useCallback(() => {
    const box = host.current?.getBoundingClientRect();
    if (!box || laid.width === 0) return;
    const scale = Math.min(1.1, (box.width - 32) / laid.width, (box.height - 32) / laid.height);
    setView({ scale, x: (box.width - laid.width * scale) / 2, y: Math.max(16, (box.height - laid.height * scale) / 2) });
  }, [laid.height, laid.width]);
  useLayoutEffect(fit, [fit]);
  useEffect(() => {
    const element = host.current;
    if (!element) return;
    const observer = new ResizeObserver(() => { setSize({ width: element.clientWidth, height: element.clientHeight }); });
    observer.observe(element);
    return () => { observer.disconnect(); };
  }, []);

  const zoom = useCallback((factor: number, at?: { x: number; y: number }) => {
    setView((view) => {
      const box = host.current?.getBoundingClientRect();
      const centre = at ?? { x: (box?.width ?? 0) / 2, y: (box?.height ?? 0) / 2 };
      const scale = Math.max(0.05, Math.min(2.5, view.scale * factor));
      const by = scale / view.scale;
      return { scale, x: centre.x - (centre.x - view.x) * by, y: centre.y - (centre.y - view.y) * by };
    });
  }, []);
  useEffect(() => {
    const element = host.current;
    if (!element) return;
    // Not through React, whose wheel events cannot keep the page from zooming.
    const onWheel = (event: WheelEvent) => {
      event.preventDefault();
      const box = element.getBoundingClientRect();
      zoom(Math.exp(-event.deltaY * 0.0015), { x: event.clientX - box.left, y: event.clientY - box.top });
    };
    element.addEventListener('wheel', onWheel, { passive: false });
    return () => { element.removeEventListener('wheel', onWheel); };
  }, [zoom]);

  const wanted = letters.trim().toLowerCase();
  const matches = useMemo(
    () => (wanted === '' ? null : new Set(types.filter((type) => type.name.toLowerCase().includes(wanted) || type.table.toLowerCase().includes(wanted)).map((type) => type.name))),
    [types, wanted],
  );
  // What is searched for is where one is, until one goes elsewhere.
  const active = matches !== null && (chosen === null || !matches.has(chosen)) ? ([...matches][0] ?? chosen) : chosen;

  const at = (event: PointerEvent) => {
    const box = host.current?.getBoundingClientRect();
    return { x: (event.clientX - (box?.left ?? 0) - view.x) / view.scale, y: (event.clientY - (box?.top ?? 0) - view.y) / view.scale };
  };
  const over = (point: { x: number; y: number }): string | null => {
    for (const place of places.values()) {
      if (Math.abs(point.x - place.x) <= NODE.width / 2 && Math.abs(point.y - place.y) <= NODE.height / 2) return place.name;
    }
    return null;
  };
  const onDown = (event: PointerEvent) => {
    if (event.button !== 0) return;
    const target = event.target as Element;
    const name = target.closest('[data-type]')?.getAttribute('data-type') ?? null;
    const point = at(event);
    const start = name === null ? undefined : places.get(name);
    if (name !== null && target.closest('[data-handle]')) {
      drag.current = { kind: 'link', from: name };
      setLinking(name);
      setAim(point);
    } else if (name !== null && start) {
      drag.current = { kind: 'move', name, x: point.x, y: point.y, start, moved: false };
      setActive(name);
    } else {
      drag.current = { kind: 'pan', x: event.clientX, y: event.clientY, view };
    }
    event.currentTarget.setPointerCapture(event.pointerId);
  };
  const onMove = (event: PointerEvent) => {
    const now = drag.current;
    if (now === null) return;
    const point = at(event);
    if (now.kind === 'pan') setView({ ...now.view, x: now.view.x + event.clientX - now.x, y: now.view.y + event.clientY - now.y });
    else if (now.kind === 'link') setAim(point);
    else {
      const [dx, dy] = [point.x - now.x, point.y - now.y];
      if (!now.moved && Math.hypot(dx, dy) * view.scale < 4) return;
      now.moved = true;
      setMoved((moved) => ({ ...moved, [now.name]: [now.start.x + dx, now.start.y + dy] }));
    }
  };
  const onUp = (event: PointerEvent) => {
    const now = drag.current;
    drag.current = null;
    setLinking(null);
    setAim(null);
    if (now?.kind === 'move') {
      if (!now.moved) onOpen(now.name);
      else if (remember) keep('browser', STORED, moved);
    }
    if (now?.kind === 'link') {
      const target = over(at(event));
      if (target !== null) onLink(now.from, target);
    }
  };

  const show = useCallback((name: string) => {
    setActive(name);
    const place = places.get(name);
    const box = host.current?.getBoundingClientRect();
    if (!place || !box) return;
    setView((view) => {
      const [x, y] = [view.x + place.x * view.scale, view.y + place.y * view.scale];
      const inside = x > 80 && y > 40 && x < box.width - 80 && y < box.height - 40;
      return inside ? view : { ...view, x: box.width / 2 - place.x * view.scale, y: box.height / 2 - place.y * view.scale };
    });
  }, [places]);
  const onKey = (event: KeyboardEvent) => {
    const directions = { ArrowUp: 'up', ArrowDown: 'down', ArrowLeft: 'left', ArrowRight: 'right' } as const;
    const direction = directions[event.key as keyof typeof directions] as (typeof directions)[keyof typeof directions] | undefined;
    const current = active ?? types[0]?.name;
    if (direction && current !== undefined) {
      const next = active === null ? current : towards(places, current, direction);
      if (next !== null) show(next);
    } else if (event.key === 'Enter' && active !== null) onOpen(active);
    else if (event.key === '+' || event.key === '=') zoom(1.25);
    else if (event.key === '-') zoom(0.8);
    else if (event.key === '0') fit();
    else return;
    event.preventDefault();
  };

  // In steps, so that panning does not draw everything anew with every pixel.
  const sight = useMemo(() => {
    if (types.length < CULL_FROM) return null;
    const step = 256 / view.scale;
    const left = Math.floor(-view.x / view.scale / step) * step - step;
    const top = Math.floor(-view.y / view.scale / step) * step - step;
    return { left, top, right: left + size.width / view.scale + 3 * step, bottom: top + size.height / view.scale + 3 * step };
  }, [size.height, size.width, types.length, view.scale, view.x, view.y]);
  const detail = view.scale > 0.55 ? 'full' : view.scale > 0.22 ? 'name' : 'box';

  return (
    <Frame
      ref={host}
      tabIndex={0}
      role="application"
      aria-roledescription="diagram"
      aria-label={`Types and links. ${active === null ? 'Arrow keys go from type to type.' : `At ${active}. Enter opens it.`} The list shows the same as text.`}
      onKeyDown={onKey}
      onPointerDown={onDown}
      onPointerMove={onMove}
      onPointerUp={onUp}
    >
      <svg width="100%" height="100%" aria-hidden="true">
        <g transform={`translate(${String(view.x)} ${String(view.y)}) scale(${String(view.scale)})`}>
          <Groups layout={laid} scale={view.scale} />
          <Drawing types={types} lines={lines} places={places} sight={sightKey(sight)} detail={detail} active={active} matches={matches} seen={seen} />
          {linking !== null && aim !== null && places.get(linking) && (
            <path d={`M${String(places.get(linking)?.x)} ${String(places.get(linking)?.y)} L${String(aim.x)} ${String(aim.y)}`} stroke={theme.accent} strokeWidth={2 / view.scale} strokeDasharray="6 4" fill="none" />
          )}
        </g>
      </svg>
      <Tools>
        <IconButton aria-label="Zoom in" onPress={() => { zoom(1.25); }}><Icon name="add" /></IconButton>
        <IconButton aria-label="Zoom out" onPress={() => { zoom(0.8); }}><Icon name="out" /></IconButton>
        <IconButton aria-label="Show the whole diagram" onPress={fit}><Icon name="fit" /></IconButton>
        {remember && Object.keys(moved).length > 0 && (
          <IconButton aria-label="Put every type back in its place" onPress={() => { setMoved({}); keep('browser', STORED, null); }}><Icon name="undo" /></IconButton>
        )}
      </Tools>
      <p className="visually-hidden" role="status">{active ?? ''}</p>
    </Frame>
  );
}

type Sight = { left: number; top: number; right: number; bottom: number } | null;
const sightKey = (sight: Sight): string => (sight === null ? '' : [sight.left, sight.top, sight.right, sight.bottom].map(Math.round).join(' '));

/** The boxes around what hangs together. */
const Groups = memo(function Groups({ layout, scale }: { layout: Layout; scale: number }) {
  const size = Math.max(13, Math.min(64, 13 / scale));
  return (
    <>
      {layout.groups.filter((group) => group.label !== '').map((group) => (
        <g key={`${group.label} ${String(group.x)} ${String(group.y)}`}>
          <rect x={group.x} y={group.y} width={group.width} height={group.height} rx={6} fill={theme.surface} stroke={theme.line} />
          <text x={group.x + 10} y={group.y + Math.min(size, 20) + 2} fontSize={Math.min(size, (group.width - 20) / (group.label.length * 0.56))} fill={theme.muted}>{group.label}</text>
        </g>
      ))}
    </>
  );
});

interface DrawingProps {
  types: TypeOverview[];
  lines: ReturnType<typeof linesOf>;
  places: Map<string, Placed>;
  sight: string;
  detail: 'full' | 'name' | 'box';
  active: string | null;
  matches: Set<string> | null;
  seen: Map<string, Set<string>> | null;
}

/** Everything that does not change while one pans. */
const Drawing = memo(function Drawing({ types, lines, places, sight, detail, active, matches, seen }: DrawingProps) {
  const [left, top, right, bottom] = sight === '' ? [] : sight.split(' ').map(Number);
  const isInSight = (place: Placed | undefined) =>
    place !== undefined && (left === undefined || top === undefined || right === undefined || bottom === undefined || (place.x > left && place.x < right && place.y > top && place.y < bottom));
  return (
    <>
      {lines.map((line) => {
        const [from, to] = [places.get(line.from), places.get(line.to)];
        if (!from || !to || (!isInSight(from) && !isInSight(to))) return null;
        return <LineShape key={`${line.from} ${line.to} ${line.through ?? ''}`} line={line} from={from} to={to} lit={active === line.from || active === line.to} dim={matches !== null} words={detail === 'full'} faint={detail === 'box'} />;
      })}
      {types.map((type) => {
        const place = places.get(type.name);
        if (!place || !isInSight(place)) return null;
        return <NodeShape key={type.name} type={type} x={place.x} y={place.y} detail={detail} active={active === type.name} dim={matches !== null && !matches.has(type.name)} unseen={seen !== null && !seen.has(type.name)} />;
      })}
    </>
  );
});

const Frame = styled.div`
  position: relative;
  flex: 1;
  min-height: 0;
  overflow: hidden;
  background: ${theme.ground};
  border-top: 1px solid ${theme.line};
  touch-action: none;
  cursor: grab;
  outline-offset: -3px;
  &:active { cursor: grabbing; }
  svg { display: block; font-family: inherit; user-select: none; }
  [data-type] { cursor: pointer; }
  [data-handle] { opacity: 0; cursor: crosshair; }
  [data-type]:hover [data-handle], [data-lit] [data-handle] { opacity: 1; }
`;
const Tools = styled.div`
  position: absolute;
  right: 12px;
  bottom: 12px;
  display: flex;
  gap: 2px;
  padding: 2px;
  background: ${theme.surface};
  border: 1px solid ${theme.line};
  border-radius: 4px;
`;
