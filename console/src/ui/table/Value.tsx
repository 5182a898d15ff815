import { useState } from 'react';
import styled from 'styled-components';
import { theme } from '../../app/theme';
import { isObject, type Json, type JsonObject } from '../../lib/client';
import { LinkButton } from '../Button';
import { bytesOf, plain, shortTime, size, type Kind } from './kinds';

interface Props {
  value: Json | undefined;
  kind: Kind;
  /** All of it, as a row's sheet shows it; else as much as a cell has room for. */
  whole?: boolean;
}

/** A value, as its kind is shown. */
export function Value({ value, kind, whole = false }: Props) {
  if (value === undefined) return null;
  if (value === null) return <Dim>null</Dim>;
  if (value === '') return <Dim>empty</Dim>;
  if (typeof value === 'object') return <Tree value={value} open={whole} />;
  switch (kind) {
    case 'boolean':
      return (
        <span>
          <span aria-hidden="true">{value === true ? '✓' : '✗'}</span>
          <span className="visually-hidden">{value === true ? 'true' : 'false'}</span>
        </span>
      );
    case 'time':
      return <time title={String(value)}>{whole ? String(value) : shortTime(String(value))}</time>;
    case 'bytes':
      return <Bytes base64={String(value)} />;
    case 'number':
    case 'json':
    case 'text':
      return <>{plain(value)}</>;
  }
}

function Bytes({ base64 }: { base64: string }) {
  return (
    <a href={`data:application/octet-stream;base64,${base64}`} download="value.bin">
      {size(bytesOf(base64))}
    </a>
  );
}

/** JSON as a small tree; what is inside opens where it stands. */
export function Tree({ value, open }: { value: JsonObject | Json[]; open: boolean }) {
  const [shown, setShown] = useState(open);
  const members: [string, Json][] = Array.isArray(value)
    ? value.map((item, index) => [String(index), item])
    : Object.entries(value);
  const plainList = Array.isArray(value) && value.every((item) => typeof item !== 'object' || item === null);
  if (members.length === 0) return <Dim>{Array.isArray(value) ? '[ ]' : '{ }'}</Dim>;
  if (plainList && members.length <= 8) return <>{members.map(([, item]) => plain(item)).join(', ')}</>;
  const what = Array.isArray(value) ? `[ ${String(members.length)} items ]` : `{ ${String(members.length)} members }`;
  return (
    <span>
      <LinkButton
        aria-expanded={shown}
        onPress={() => {
          setShown(!shown);
        }}
      >
        {what}
      </LinkButton>
      {shown && (
        <Members>
          {members.map(([name, member]) => (
            <li key={name}>
              <b>{name}</b>{' '}
              {isObject(member) || Array.isArray(member) ? (
                <Tree value={member as JsonObject | Json[]} open={false} />
              ) : (
                <Value value={member} kind="text" whole />
              )}
            </li>
          ))}
        </Members>
      )}
    </span>
  );
}

const Dim = styled.span`
  color: ${theme.muted};
  font-style: italic;
`;
const Members = styled.ul`
  padding-left: 12px;
  border-left: 1px solid ${theme.line};
  b {
    font-weight: 400;
    color: ${theme.syntaxField};
  }
  li {
    overflow-wrap: anywhere;
    white-space: normal;
  }
`;
