import { useCallback, useMemo, useRef, useState, type KeyboardEvent, type PointerEvent } from 'react';
import styled from 'styled-components';
import { theme } from '../../../app/theme';
import type { TypeOverview } from '../../../lib/interface';
import { kept, keep } from '../../../lib/store';
import { IconButton } from '../../../ui/Button';
import { Icon } from '../../../ui/Icon';
import { layOut, linesOf, NODE, towards, type Layout, type Placed } from '../layout';
import { Drawing, Groups, sightKey } from './Drawing';
import { useView, type View } from './useView';

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

type Drag =
  | { kind: 'pan'; x: number; y: number; view: View }
  | { kind: 'move'; name: string; x: number; y: number; start: Placed; moved: boolean }
  | { kind: 'link'; from: string };

const STORED = 'model.places';
/** Types from which on only those in sight are drawn. */
const CULL_FROM = 150;

/** Types and links. Drag moves, the wheel zooms; by keyboard arrows go from type to type, + and − zoom, Enter opens. */
export function Diagram({ types, letters, focus, seen, remember, onOpen, onLink }: Props) {
  const lines = useMemo(() => linesOf(types), [types]);
  const laid = useMemo<Layout>(() => layOut(types, lines), [lines, types]);
  const [moved, setMoved] = useState<Record<string, [number, number]>>(() =>
    remember ? kept('browser', STORED, {}) : {},
  );
  const { host, view, setView, size, zoom, fit } = useView(laid);
  const [chosen, setActive] = useState<string | null>(focus ?? null);
  const [aim, setAim] = useState<{ x: number; y: number } | null>(null);
  const drag = useRef<Drag | null>(null);
  const [linking, setLinking] = useState<string | null>(null);

  const places = useMemo(() => {
    const all = new Map(laid.places);
    for (const [name, [x, y]] of Object.entries(moved)) if (all.has(name)) all.set(name, { name, x, y });
    return all;
  }, [laid.places, moved]);

  const wanted = letters.trim().toLowerCase();
  const matches = useMemo(
    () =>
      wanted === ''
        ? null
        : new Set(
            types
              .filter((type) => type.name.toLowerCase().includes(wanted) || type.table.toLowerCase().includes(wanted))
              .map((type) => type.name),
          ),
    [types, wanted],
  );
  // What is searched for is where one is, until one goes elsewhere.
  const active = matches !== null && (chosen === null || !matches.has(chosen)) ? ([...matches][0] ?? chosen) : chosen;

  const at = (event: PointerEvent) => {
    const box = host.current?.getBoundingClientRect();
    return {
      x: (event.clientX - (box?.left ?? 0) - view.x) / view.scale,
      y: (event.clientY - (box?.top ?? 0) - view.y) / view.scale,
    };
  };
  const over = (point: { x: number; y: number }): string | null => {
    for (const place of places.values()) {
      if (Math.abs(point.x - place.x) <= NODE.width / 2 && Math.abs(point.y - place.y) <= NODE.height / 2)
        return place.name;
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
    if (now.kind === 'pan')
      setView({ ...now.view, x: now.view.x + event.clientX - now.x, y: now.view.y + event.clientY - now.y });
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

  const show = useCallback(
    (name: string) => {
      setActive(name);
      const place = places.get(name);
      const box = host.current?.getBoundingClientRect();
      if (!place || !box) return;
      setView((view) => {
        const [x, y] = [view.x + place.x * view.scale, view.y + place.y * view.scale];
        const inside = x > 80 && y > 40 && x < box.width - 80 && y < box.height - 40;
        return inside
          ? view
          : { ...view, x: box.width / 2 - place.x * view.scale, y: box.height / 2 - place.y * view.scale };
      });
    },
    [host, places, setView],
  );
  const onKey = (event: KeyboardEvent) => {
    const directions = { ArrowUp: 'up', ArrowDown: 'down', ArrowLeft: 'left', ArrowRight: 'right' } as const;
    const direction = directions[event.key as keyof typeof directions] as
      (typeof directions)[keyof typeof directions] | undefined;
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
    return {
      left,
      top,
      right: left + size.width / view.scale + 3 * step,
      bottom: top + size.height / view.scale + 3 * step,
    };
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
          <Drawing
            types={types}
            lines={lines}
            places={places}
            sight={sightKey(sight)}
            detail={detail}
            active={active}
            matches={matches}
            seen={seen}
          />
          {linking !== null && aim !== null && places.get(linking) && (
            <path
              d={`M${String(places.get(linking)?.x)} ${String(places.get(linking)?.y)} L${String(aim.x)} ${String(aim.y)}`}
              stroke={theme.accent}
              strokeWidth={2 / view.scale}
              strokeDasharray="6 4"
              fill="none"
            />
          )}
        </g>
      </svg>
      <Tools>
        <IconButton
          aria-label="Zoom in"
          onPress={() => {
            zoom(1.25);
          }}
        >
          <Icon name="add" />
        </IconButton>
        <IconButton
          aria-label="Zoom out"
          onPress={() => {
            zoom(0.8);
          }}
        >
          <Icon name="out" />
        </IconButton>
        <IconButton aria-label="Show the whole diagram" onPress={fit}>
          <Icon name="fit" />
        </IconButton>
        {remember && Object.keys(moved).length > 0 && (
          <IconButton
            aria-label="Put every type back in its place"
            onPress={() => {
              setMoved({});
              keep('browser', STORED, null);
            }}
          >
            <Icon name="undo" />
          </IconButton>
        )}
      </Tools>
      <p className="visually-hidden" role="status">
        {active ?? ''}
      </p>
    </Frame>
  );
}

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
  &:active {
    cursor: grabbing;
  }
  svg {
    display: block;
    font-family: inherit;
    user-select: none;
  }
  [data-type] {
    cursor: pointer;
  }
  [data-handle] {
    opacity: 0;
    cursor: crosshair;
  }
  [data-type]:hover [data-handle],
  [data-lit] [data-handle] {
    opacity: 1;
  }
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
