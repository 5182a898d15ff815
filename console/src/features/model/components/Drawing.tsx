import { memo } from 'react';
import { theme } from '../../../app/theme';
import type { TypeOverview } from '../../../lib/interface';
import type { Layout, linesOf, Placed } from '../layout';
import { LineShape } from './LineShape';
import { NodeShape } from './NodeShape';

/** What of the diagram is in sight; none where all is drawn. */
export type Sight = { left: number; top: number; right: number; bottom: number } | null;
/** The same as a text, which is equal where nothing changed. */
export const sightKey = (sight: Sight): string =>
  sight === null ? '' : [sight.left, sight.top, sight.right, sight.bottom].map(Math.round).join(' ');

/** The boxes around what hangs together. */
export const Groups = memo(function Groups({ layout, scale }: { layout: Layout; scale: number }) {
  const size = Math.max(13, Math.min(64, 13 / scale));
  return (
    <>
      {layout.groups
        .filter((group) => group.label !== '')
        .map((group) => (
          <g key={`${group.label} ${String(group.x)} ${String(group.y)}`}>
            <rect
              x={group.x}
              y={group.y}
              width={group.width}
              height={group.height}
              rx={6}
              fill={theme.surface}
              stroke={theme.line}
            />
            <text
              x={group.x + 10}
              y={group.y + Math.min(size, 20) + 2}
              fontSize={Math.min(size, (group.width - 20) / (group.label.length * 0.56))}
              fill={theme.muted}
            >
              {group.label}
            </text>
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
export const Drawing = memo(function Drawing({
  types,
  lines,
  places,
  sight,
  detail,
  active,
  matches,
  seen,
}: DrawingProps) {
  const [left, top, right, bottom] = sight === '' ? [] : sight.split(' ').map(Number);
  const isInSight = (place: Placed | undefined) =>
    place !== undefined &&
    (left === undefined ||
      top === undefined ||
      right === undefined ||
      bottom === undefined ||
      (place.x > left && place.x < right && place.y > top && place.y < bottom));
  return (
    <>
      {lines.map((line) => {
        const [from, to] = [places.get(line.from), places.get(line.to)];
        if (!from || !to || (!isInSight(from) && !isInSight(to))) return null;
        return (
          <LineShape
            key={`${line.from} ${line.to} ${line.through ?? ''}`}
            line={line}
            from={from}
            to={to}
            lit={active === line.from || active === line.to}
            dim={matches !== null}
            words={detail === 'full'}
            faint={detail === 'box'}
          />
        );
      })}
      {types.map((type) => {
        const place = places.get(type.name);
        if (!place || !isInSight(place)) return null;
        return (
          <NodeShape
            key={type.name}
            type={type}
            x={place.x}
            y={place.y}
            detail={detail}
            active={active === type.name}
            dim={matches !== null && !matches.has(type.name)}
            unseen={seen !== null && !seen.has(type.name)}
          />
        );
      })}
    </>
  );
});
