import { useNavigate, useSearch } from '@tanstack/react-router';
import { useMemo, useRef, useState, type KeyboardEvent } from 'react';
import styled from 'styled-components';
import { hatched, theme } from '../../../app/theme';
import { useAs } from '../../../lib/as';
import type { AccessOverview, GrantSheet, ModelOverview } from '../../../lib/interface';
import { useSession } from '../../../lib/session';
import { TextField } from '../../../ui/fields';
import { Faint, Row, Stack } from '../../../ui/layout';
import { marksOf, RoleMark } from '../../../ui/RoleMark';
import { ACTIONS, cellName, cellsOf, extentOf, toldCell, type Cell, type Extent } from '../model';

/** Types by roles: what is granted, restricted by rows, masked, or nothing. Arrows move, Enter opens the grant. */
export function Matrix({ access, model }: { access: AccessOverview; model: ModelOverview }) {
  const { me } = useSession();
  const { role: as } = useAs();
  const navigate = useNavigate();
  const search = useSearch({ from: '/access' });
  const [letters, setLetters] = useState('');
  const [active, setActive] = useState<[number, number]>([0, 0]);
  const body = useRef<HTMLTableSectionElement>(null);
  const cells = useMemo(() => cellsOf(access), [access]);
  const roles = access.roles.map((role) => role.name);
  const marks = marksOf(me.roles);
  const wanted = letters.trim().toLowerCase();
  const types = model.types.filter(
    (type) => wanted === '' || type.name.toLowerCase().includes(wanted) || type.table.toLowerCase().includes(wanted),
  );
  const open = (role: string, type: string) => {
    void navigate({ from: '/access', search: (before) => ({ ...before, tab: 'matrix', role, type }) });
  };
  const onKey = (event: KeyboardEvent, row: number, column: number) => {
    const moves: Record<string, [number, number]> = {
      ArrowUp: [row - 1, column],
      ArrowDown: [row + 1, column],
      ArrowLeft: [row, column - 1],
      ArrowRight: [row, column + 1],
      Home: [row, 0],
      End: [row, roles.length - 1],
    };
    const move = moves[event.key];
    if (!move) return;
    event.preventDefault();
    const to: [number, number] = [clamp(move[0], types.length), clamp(move[1], roles.length)];
    setActive(to);
    body.current?.querySelector<HTMLElement>(`[data-at="${String(to[0])}-${String(to[1])}"]`)?.focus();
  };
  return (
    <Stack $gap={8}>
      <Row $gap={16}>
        <TextField
          label="Find a type"
          hideLabel
          placeholder="Find a type"
          type="search"
          value={letters}
          onChange={setLetters}
        />
        <Legend />
      </Row>
      <Scroll>
        <Grid role="grid" aria-label="Types by roles">
          <thead>
            <tr>
              <th scope="col">type</th>
              {access.roles.map((role) => (
                <th scope="col" key={role.name} aria-selected={role.name === as} title={role.description ?? role.name}>
                  <span>
                    <RoleMark role={role.name} roles={me.roles} /> <em>{role.name}</em>
                  </span>
                </th>
              ))}
            </tr>
          </thead>
          <tbody ref={body}>
            {types.map((type, row) => (
              <tr key={type.name}>
                <th scope="row">{type.name}</th>
                {roles.map((role, column) => {
                  const cell = cells.get(cellName(role, type.name)) ?? {};
                  const isOpen = search.role === role && search.type === type.name;
                  return (
                    <td key={role} aria-selected={isOpen}>
                      <button
                        type="button"
                        data-at={`${String(row)}-${String(column)}`}
                        tabIndex={active[0] === row && active[1] === column ? 0 : -1}
                        aria-label={toldCell(role, type.name, cell)}
                        title={toldCell(role, type.name, cell)}
                        onFocus={() => {
                          setActive([row, column]);
                        }}
                        onKeyDown={(event) => {
                          onKey(event, row, column);
                        }}
                        onClick={() => {
                          open(role, type.name);
                        }}
                      >
                        <Squares cell={cell} colour={marks.get(role)?.colour ?? theme.accent} />
                      </button>
                    </td>
                  );
                })}
              </tr>
            ))}
          </tbody>
        </Grid>
      </Scroll>
      {types.length === 0 && <Faint>No type is called like that.</Faint>}
    </Stack>
  );
}

function clamp(value: number, count: number): number {
  return Math.max(0, Math.min(count - 1, value));
}

/** The four actions of a cell, a square each. */
function Squares({ cell, colour }: { cell: Cell; colour: string }) {
  return (
    <Four aria-hidden="true">
      {ACTIONS.map((action) => (
        <Square
          key={action}
          $extent={extentOf(cell[action])}
          $colour={colour}
          data-letter={cell[action] ? letter(action) : ''}
        >
          {cell[action] && <Marks grant={cell[action]} />}
        </Square>
      ))}
    </Four>
  );
}

const letter = (action: string): string => (action[0] ?? '').toUpperCase();

function Marks({ grant }: { grant: GrantSheet }) {
  return (
    <>
      {grant.rows && <i className="rows" />}
      {grant.masks.length > 0 && <i className="masks" />}
    </>
  );
}

function Legend() {
  const colour = theme.muted;
  return (
    <Row $gap={12} aria-hidden="true">
      <span>
        <Square $extent="all" $colour={colour} data-letter="R" /> everything
      </span>
      <span>
        <Square $extent="some" $colour={colour} data-letter="R" /> a part
      </span>
      <span>
        <Square $extent="some" $colour={colour} data-letter="R">
          <i className="rows" />
        </Square>{' '}
        some rows
      </span>
      <span>
        <Square $extent="some" $colour={colour} data-letter="R">
          <i className="masks" />
        </Square>{' '}
        masked
      </span>
      <span>
        <Square $extent="nothing" $colour={colour} /> nothing
      </span>
      <Faint>read, create, update, delete</Faint>
    </Row>
  );
}

const Four = styled.span`
  display: flex;
`;
const Square = styled.b<{ $extent: Extent; $colour: string }>`
  &::before {
    content: attr(data-letter);
  }
  position: relative;
  display: inline-grid;
  place-items: center;
  vertical-align: middle;
  width: 19px;
  height: 19px;
  margin-right: 2px;
  border: 1px solid ${({ $extent, $colour }) => ($extent === 'nothing' ? theme.line : $colour)};
  border-radius: 3px;
  font-size: 11px;
  font-weight: 600;
  color: ${({ $extent, $colour }) => ($extent === 'all' ? theme.onRole : $colour)};
  background: ${({ $extent, $colour }) => ($extent === 'all' ? $colour : $extent === 'nothing' ? hatched : 'transparent')};
  .rows {
    position: absolute;
    left: 1px;
    right: 1px;
    bottom: 1px;
    height: 3px;
    background: currentColor;
    clip-path: polygon(0 0, 100% 0, 62% 100%, 38% 100%);
  }
  .masks {
    position: absolute;
    top: 1px;
    right: 1px;
    width: 5px;
    height: 5px;
    border-radius: 50%;
    background: currentColor;
  }
`;
const Scroll = styled.div`
  overflow: auto;
  max-height: calc(100dvh - 190px);
  border: 1px solid ${theme.line};
  border-radius: 4px;
  background: ${theme.surface};
`;
const Grid = styled.table`
  border-collapse: separate;
  border-spacing: 0;
  th,
  td {
    padding: 0;
    text-align: left;
    border-bottom: 1px solid ${theme.line};
    white-space: nowrap;
  }
  thead th {
    position: sticky;
    top: 0;
    z-index: 2;
    background: ${theme.raised};
    padding: 6px 10px 6px 6px;
  }
  thead th[aria-selected='true'] {
    box-shadow: inset 0 -2px ${theme.accent};
  }
  thead span {
    display: flex;
    align-items: center;
    gap: 6px;
    max-width: 104px;
  }
  em {
    font-style: normal;
    overflow: hidden;
    text-overflow: ellipsis;
  }
  thead th:first-child,
  tbody th {
    position: sticky;
    left: 0;
    z-index: 1;
    background: ${theme.raised};
    padding: 4px 12px;
    font-weight: 400;
  }
  thead th:first-child {
    z-index: 3;
    color: ${theme.muted};
  }
  td[aria-selected='true'] {
    background: ${theme.accentGround};
  }
  button {
    display: block;
    padding: 5px 8px 5px 6px;
    background: none;
    border: 0;
    cursor: pointer;
    outline-offset: -2px;
  }
  button:hover {
    background: ${theme.raised};
  }
`;
