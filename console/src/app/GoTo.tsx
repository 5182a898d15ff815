import { useNavigate } from '@tanstack/react-router';
import { useMemo, useState } from 'react';
import { Autocomplete, Dialog, Heading, Input, Label, Modal, ModalOverlay, SearchField } from 'react-aria-components';
import styled from 'styled-components';
import { useModel } from '../lib/queries';
import { useSession } from '../lib/session';
import { Item, Items } from '../ui/fields';
import { Faint } from '../ui/layout';
import { PAGES } from './Frame';
import { found, type Place } from './places';
import { theme } from './theme';

/** Go to a page, type, field, link or role by a few letters. */
export function GoTo({ onClose }: { onClose: () => void }) {
  const { me } = useSession();
  const model = useModel();
  const navigate = useNavigate();
  const [letters, setLetters] = useState('');
  const places = useMemo<Place[]>(() => {
    const pages = PAGES.map((page) => ({
      id: `page ${page.to}`,
      word: page.word,
      kind: 'page',
      to: page.to,
      search: {},
    }));
    const roles = me.roles.map((role) => ({
      id: `role ${role}`,
      word: role,
      kind: 'role',
      to: '/access' as const,
      search: { tab: 'roles', role },
    }));
    const types = (model.data?.types ?? []).flatMap((type) => {
      const to = '/model' as const;
      const search = { type: type.name };
      return [
        { id: `type ${type.name}`, word: type.name, kind: 'type', to, search },
        ...type.fields.map((field) => ({
          id: `field ${type.name}.${field}`,
          word: `${type.name}.${field}`,
          kind: 'field',
          to,
          search,
        })),
        ...type.links.map((link) => ({
          id: `link ${type.name}.${link.field}`,
          word: `${type.name}.${link.field}`,
          kind: 'link',
          to,
          search,
        })),
      ];
    });
    return [
      ...pages,
      ...types.filter((place) => place.kind === 'type'),
      ...roles,
      ...types.filter((place) => place.kind !== 'type'),
    ];
  }, [me.roles, model.data]);
  const shown = useMemo(() => found(places, letters), [letters, places]);
  return (
    <Veil
      isOpen
      isDismissable
      onOpenChange={(open) => {
        if (!open) onClose();
      }}
    >
      <Box>
        <Dialog>
          <Heading slot="title" className="visually-hidden">
            Go to
          </Heading>
          <Autocomplete inputValue={letters} onInputChange={setLetters}>
            <SearchField autoFocus>
              <Label className="visually-hidden">Type, field, link, role or page</Label>
              <Input placeholder="Type, field, link, role or page" />
            </SearchField>
            <Items
              items={shown}
              aria-label="Found"
              renderEmptyState={() => <Faint>Nothing is called like that.</Faint>}
              onAction={(id) => {
                const place = shown.find((place) => place.id === id);
                if (!place) return;
                onClose();
                void navigate({
                  to: place.to,
                  search: (before) => ({ ...(before.as === undefined ? {} : { as: before.as }), ...place.search }),
                });
              }}
            >
              {(place) => (
                <Item id={place.id} textValue={place.word}>
                  {place.word} <Faint>{place.kind}</Faint>
                </Item>
              )}
            </Items>
          </Autocomplete>
        </Dialog>
      </Box>
    </Veil>
  );
}

const Veil = styled(ModalOverlay)`
  position: fixed;
  inset: 0;
  z-index: 30;
  display: grid;
  place-items: start center;
  padding-top: 10vh;
  background: ${theme.veil};
`;
const Box = styled(Modal)`
  width: min(560px, calc(100vw - 16px));
  background: ${theme.surface};
  border: 1px solid ${theme.strongLine};
  border-radius: 4px;
  box-shadow: ${theme.shadow};
  section {
    outline: none;
  }
  input {
    width: 100%;
    padding: 10px 12px;
    font-size: 15px;
    background: transparent;
    border: 0;
    border-bottom: 1px solid ${theme.line};
    outline-offset: -2px;
  }
  [role='listbox'] {
    max-height: 50vh;
    overflow: auto;
  }
`;
