import { memo } from 'react';
import { theme } from '../../../app/theme';
import { NODE, type Line, type Placed } from '../layout';

interface Props {
  line: Line;
  from: Placed;
  to: Placed;
  lit: boolean;
  dim: boolean;
  words: boolean;
  /** Is it one of so many that single ones are not followed? */
  faint: boolean;
}

/** A line between two types. From many to many it is double; to another source it is dashed. */
export const LineShape = memo(function LineShape({ line, from, to, lit, dim, words, faint }: Props) {
  const path = from.name === to.name ? loop(from) : curve(from, to);
  const colour = lit ? theme.accent : theme.strongLine;
  return (
    <g opacity={lit ? 1 : faint ? 0.3 : dim ? 0.25 : 0.75} fill="none">
      {words && <title>{line.words.join('\n')}</title>}
      <path
        d={path}
        stroke={colour}
        strokeWidth={line.through === null ? (lit ? 2 : 1.2) : 4}
        strokeDasharray={line.crosses ? '7 5' : undefined}
      />
      {line.through !== null && <path d={path} stroke={theme.ground} strokeWidth={1.6} />}
    </g>
  );
});

function curve(from: Placed, to: Placed): string {
  const rightwards = to.x >= from.x;
  const aside = Math.abs(to.x - from.x) < NODE.width * 0.75;
  if (aside) {
    const [first, second] = from.y <= to.y ? [from, to] : [to, from];
    const [y1, y2] = [first.y + NODE.height / 2, second.y - NODE.height / 2];
    const middle = (y1 + y2) / 2;
    return `M${n(first.x)} ${n(y1)}C${n(first.x)} ${n(middle)} ${n(second.x)} ${n(middle)} ${n(second.x)} ${n(y2)}`;
  }
  const x1 = from.x + (rightwards ? NODE.width / 2 : -NODE.width / 2);
  const x2 = to.x + (rightwards ? -NODE.width / 2 : NODE.width / 2);
  const middle = (x1 + x2) / 2;
  return `M${n(x1)} ${n(from.y)}C${n(middle)} ${n(from.y)} ${n(middle)} ${n(to.y)} ${n(x2)} ${n(to.y)}`;
}

/** A link to the type itself. */
function loop({ x, y }: Placed): string {
  const [right, top] = [x + NODE.width / 2 - 24, y - NODE.height / 2];
  return `M${n(right)} ${n(top)}c0 -18 36 -18 36 6c0 14 -4 14 -12 14`;
}

const n = (value: number): string => value.toFixed(1);
