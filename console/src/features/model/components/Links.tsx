import { useNavigate } from '@tanstack/react-router';
import { useState } from 'react';
import styled from 'styled-components';
import { hatched, theme } from '../../../app/theme';
import { useEdits } from '../../../lib/edits';
import type { LinkSheet, ModelOverview, TypeSheet } from '../../../lib/interface';
import { useSession } from '../../../lib/session';
import { Button, DangerButton, LinkButton, QuietButton } from '../../../ui/Button';
import { Faint, Row, Stack, Word } from '../../../ui/layout';
import { LinkForm } from './LinkForm';

/** The links of a type: to what, by which columns, declared by whom. */
export function Links({ sheet, model, seen }: { sheet: TypeSheet; model: ModelOverview; seen: Set<string> | null }) {
  const { me } = useSession();
  const navigate = useNavigate();
  const [adding, setAdding] = useState(false);
  const go = (type: string) => {
    void navigate({ from: '/model', search: (before) => ({ ...before, type }) });
  };
  return (
    <Stack>
      {sheet.links.length === 0 && <Faint>Nothing links {sheet.name} with other types.</Faint>}
      <List aria-label={`Links of ${sheet.name}`}>
        {sheet.links.map((link) => (
          <OneLink
            key={link.field}
            link={link}
            unseen={seen !== null && !seen.has(link.field)}
            model={model}
            sheet={sheet}
            onGo={go}
          />
        ))}
      </List>
      {me.editing && !adding && (
        <Row>
          <Button
            onPress={() => {
              setAdding(true);
            }}
          >
            Link {sheet.name} to another type
          </Button>
        </Row>
      )}
      {adding && (
        <LinkForm
          model={model}
          from={sheet.name}
          onDone={() => {
            setAdding(false);
          }}
        />
      )}
    </Stack>
  );
}

interface OneProps {
  link: LinkSheet;
  unseen: boolean;
  sheet: TypeSheet;
  model: ModelOverview;
  onGo: (type: string) => void;
}

function OneLink({ link, unseen, sheet, model, onGo }: OneProps) {
  const { me } = useSession();
  const { add } = useEdits();
  const [editing, setEditing] = useState(false);
  const { stated } = link;
  return (
    <li className={unseen ? 'unseen' : ''}>
      <Row>
        <strong>{link.field}</strong> →{' '}
        <LinkButton
          onPress={() => {
            onGo(link.target);
          }}
        >
          {link.target}
        </LinkButton>
        {link.many && <Word>many</Word>} {link.crosses && <Word>another source</Word>}{' '}
        {link.through && <Word>over {link.through}</Word>}
        <Faint>
          {link.columns.length > 0 && `${link.columns.join(', ')} = ${link.target}.${link.references.join(', ')}; `}
          {stated ? `[[link]] in line ${String(stated.line)}` : 'by a foreign key'}
        </Faint>
        {stated && me.editing && (
          <>
            <QuietButton
              aria-label={`Change the link ${link.field}`}
              onPress={() => {
                setEditing(!editing);
              }}
            >
              Change
            </QuietButton>
            <DangerButton
              aria-label={`Take out the link ${link.field}`}
              onPress={() => {
                add({ kind: 'removeLink', link: stated.link });
              }}
            >
              Take out
            </DangerButton>
          </>
        )}
      </Row>
      {editing && stated && (
        <LinkForm
          model={model}
          from={sheet.name}
          before={stated.link}
          onDone={() => {
            setEditing(false);
          }}
        />
      )}
    </li>
  );
}

const List = styled.ul`
  display: grid;
  li {
    padding: 4px 8px;
    border-bottom: 1px solid ${theme.line};
  }
  .unseen {
    background-image: ${hatched};
  }
`;
