import styled from 'styled-components';
import { ROLE_COLOURS, theme } from '../app/theme';

/** Two letters for each of the roles, none twice where that can be. */
export function marksOf(roles: readonly string[]): Map<string, { letters: string; colour: string }> {
  const marks = new Map<string, { letters: string; colour: string }>([
    ['owner', { letters: 'OW', colour: theme.accent }],
  ]);
  const taken = new Set(['OW']);
  roles
    .filter((role) => role !== 'owner')
    .forEach((role, index) => {
      const letters = [...role.toUpperCase().replace(/[^A-Z0-9]/g, '')];
      const first = letters[0] ?? 'X';
      const pairs = letters.slice(1).map((letter) => first + letter);
      const free = pairs.find((pair) => !taken.has(pair)) ?? `${first}${String(index + 1)}`.slice(0, 2);
      taken.add(free);
      marks.set(role, { letters: free, colour: ROLE_COLOURS[index % ROLE_COLOURS.length] ?? theme.accent });
    });
  return marks;
}

interface Props {
  role: string;
  roles: readonly string[];
}

/** A role's colour and letters: the same wherever it is named. */
export function RoleMark({ role, roles }: Props) {
  const mark = marksOf(roles).get(role) ?? { letters: role.slice(0, 2).toUpperCase(), colour: theme.muted };
  return <Mark aria-hidden="true" data-letters={mark.letters} style={{ background: mark.colour }} />;
}

const Mark = styled.span`
  &::before {
    content: attr(data-letters);
  }
  flex: none;
  display: inline-grid;
  place-items: center;
  min-width: 22px;
  height: 16px;
  padding: 0 3px;
  border-radius: 3px;
  color: ${theme.onRole};
  font-size: 10px;
  font-weight: 600;
  letter-spacing: 0.04em;
  line-height: 1;
`;
