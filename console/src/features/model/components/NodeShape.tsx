import { memo } from 'react';
import { theme } from '../../../app/theme';
import type { TypeOverview } from '../../../lib/interface';
import { aboutRows } from '../../../ui/table/kinds';
import { NODE } from '../layout';

interface Props {
  type: TypeOverview;
  x: number;
  y: number;
  detail: 'full' | 'name' | 'box';
  active: boolean;
  dim: boolean;
  /** Is it hidden from the role that one looks as? */
  unseen: boolean;
}

const LONGEST = 21;

/** A type in the diagram. */
export const NodeShape = memo(function NodeShape({ type, x, y, detail, active, dim, unseen }: Props) {
  const [left, top] = [x - NODE.width / 2, y - NODE.height / 2];
  const name = shortened(type.name, LONGEST);
  return (
    <g data-type={type.name} data-lit={active ? true : undefined} opacity={dim ? 0.3 : 1}>
      {detail === 'full' && <title>{`${type.name}: ${type.table} of ${type.source}`}</title>}
      <rect
        x={left}
        y={top}
        width={NODE.width}
        height={NODE.height}
        rx={4}
        fill={detail === 'box' ? theme.accentGround : theme.raised}
        stroke={active ? theme.accent : theme.strongLine}
        strokeWidth={active ? 2.5 : 1}
        strokeDasharray={type.view ? '4 3' : undefined}
      />
      {unseen && <Hatch left={left} top={top} />}
      {detail !== 'box' && (
        <text
          x={left + 10}
          y={detail === 'full' ? top + 18 : y + 8}
          fontSize={detail === 'full' ? 13 : 22}
          fontWeight={600}
          fill={theme.text}
        >
          {detail === 'full' ? name : shortened(type.name, 13)}
        </text>
      )}
      {detail === 'full' && (
        <text x={left + 10} y={top + 35} fontSize={11.5} fill={theme.muted}>
          {`${String(type.fields.length)} fields${type.view ? ', view' : `, ${aboutRows(type.aboutRows)}`}`}
        </text>
      )}
      {detail === 'full' && (
        <g data-handle>
          <circle cx={left + NODE.width} cy={y} r={7} fill={theme.accent} />
          <path
            d={`M${String(left + NODE.width - 3)} ${String(y)}h6m-3 -3v6`}
            stroke={theme.onAccent}
            strokeWidth={1.5}
          />
        </g>
      )}
    </g>
  );
});

/** As much of a name as there is room for. */
function shortened(name: string, most: number): string {
  return name.length > most ? `${name.slice(0, most - 1)}…` : name;
}

/** What the role does not see. */
function Hatch({ left, top }: { left: number; top: number }) {
  const lines = [];
  for (let at = 8; at < NODE.width + NODE.height; at += 8) {
    const [x1, y1] = at < NODE.height ? [left, top + at] : [left + at - NODE.height, top + NODE.height];
    const [x2, y2] = at < NODE.width ? [left + at, top] : [left + NODE.width, top + at - NODE.width];
    lines.push(`M${String(x1)} ${String(y1)}L${String(x2)} ${String(y2)}`);
  }
  return <path d={lines.join('')} stroke={theme.hatch} strokeWidth={1.2} fill="none" />;
}
