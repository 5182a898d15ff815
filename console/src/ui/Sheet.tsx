import type { ReactNode } from 'react';
import { Dialog, Heading, Modal, ModalOverlay } from 'react-aria-components';
import styled, { keyframes } from 'styled-components';
import { theme } from '../app/theme';
import { IconButton } from './Button';
import { Icon } from './Icon';

interface Props {
  title: ReactNode;
  onClose: () => void;
  wide?: boolean;
  actions?: ReactNode;
  children: ReactNode;
}

/** Something beside the page: slides over from the right, closes with Escape, and gives focus back. */
export function Sheet({ title, onClose, wide = false, actions, children }: Props) {
  return (
    <Veil
      isOpen
      isDismissable
      onOpenChange={(open) => {
        if (!open) onClose();
      }}
    >
      <Side $wide={wide}>
        <Body>
          <Head>
            <Heading slot="title">{title}</Heading>
            <IconButton aria-label="Close this sheet" onPress={onClose}>
              <Icon name="close" />
            </IconButton>
          </Head>
          <Content>{children}</Content>
          {actions !== undefined && <Foot>{actions}</Foot>}
        </Body>
      </Side>
    </Veil>
  );
}

const come = keyframes`from { transform: translateX(24px); opacity: 0; }`;

const Veil = styled(ModalOverlay)`
  position: fixed;
  inset: 0;
  z-index: 20;
  background: ${theme.veil};
`;
const Side = styled(Modal)<{ $wide: boolean }>`
  position: absolute;
  inset: 0 0 0 auto;
  width: min(${({ $wide }) => ($wide ? '960px' : '560px')}, 100vw);
  background: ${theme.surface};
  box-shadow: ${theme.shadow};
  animation: ${come} 150ms ease-out;
`;
const Body = styled(Dialog)`
  display: flex;
  flex-direction: column;
  height: 100%;
  outline: none;
`;
const Head = styled.header`
  display: flex;
  align-items: center;
  justify-content: space-between;
  gap: 12px;
  padding: 8px 8px 8px 16px;
  border-bottom: 1px solid ${theme.line};
  background: ${theme.raised};
  h2 {
    font-size: 15px;
    overflow-wrap: anywhere;
    display: flex;
    align-items: center;
    gap: 8px;
  }
`;
const Content = styled.div`
  flex: 1;
  min-height: 0;
  overflow: auto;
  padding: 12px 16px;
`;
const Foot = styled.footer`
  display: flex;
  flex-wrap: wrap;
  gap: 8px;
  padding: 8px 16px;
  border-top: 1px solid ${theme.line};
  background: ${theme.raised};
`;
