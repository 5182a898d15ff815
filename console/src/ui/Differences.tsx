import { useState } from 'react';
import styled from 'styled-components';
import type { SchemaDifference } from '../lib/interface';
import { LinkButton } from './Button';
import { Faint, Word } from './layout';

const FIRST = 8;

/** What becomes of the schemas: what breaks requests first. */
export function Differences({ differences }: { differences: SchemaDifference[] }) {
  const [all, setAll] = useState(false);
  const breaking = differences.filter((difference) => difference.breaking).length;
  if (differences.length === 0) return <p>Every schema stays as it is.</p>;
  const shown = all ? differences : differences.slice(0, FIRST);
  return (
    <>
      <p>
        {breaking === 0
          ? `No request breaks; ${String(differences.length)} ${differences.length === 1 ? 'difference' : 'differences'}.`
          : `${String(breaking)} of ${String(differences.length)} differences can break requests.`}
      </p>
      <List>
        {shown.map((difference, index) => (
          <li key={index}>
            <Word {...(difference.breaking ? { $tone: 'danger' as const } : {})}>
              {difference.breaking ? 'breaks' : 'adds'}
            </Word>
            <span>
              <code>{difference.coordinate}</code> {difference.text} <Faint>for {difference.roles.join(', ')}</Faint>
            </span>
          </li>
        ))}
      </List>
      {differences.length > FIRST && (
        <LinkButton
          onPress={() => {
            setAll(!all);
          }}
        >
          {all ? 'Show fewer' : `Show all ${String(differences.length)}`}
        </LinkButton>
      )}
    </>
  );
}

const List = styled.ul`
  display: grid;
  gap: 2px;
  margin: 4px 0;
  li {
    display: flex;
    align-items: baseline;
    gap: 8px;
    overflow-wrap: anywhere;
  }
`;
