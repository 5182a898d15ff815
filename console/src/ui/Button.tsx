import { Button as AriaButton } from 'react-aria-components';
import styled from 'styled-components';
import { theme } from '../app/theme';

/** The main action of a place. It says what happens. */
export const Button = styled(AriaButton)`
  display: inline-flex;
  align-items: center;
  justify-content: center;
  gap: 6px;
  min-height: 28px;
  padding: 4px 12px;
  font: inherit;
  font-weight: 600;
  color: ${theme.onAccent};
  background: ${theme.accent};
  border: 1px solid ${theme.accent};
  border-radius: 4px;
  cursor: pointer;
  white-space: nowrap;
  &[data-hovered] {
    filter: brightness(1.1);
  }
  &[data-disabled] {
    opacity: 0.55;
    cursor: default;
  }
`;

/** A lesser action. */
export const QuietButton = styled(Button)`
  color: ${theme.text};
  font-weight: 400;
  background: transparent;
  border-color: ${theme.line};
  &[data-hovered] {
    filter: none;
    background: ${theme.raised};
  }
  &[aria-pressed='true'] {
    background: ${theme.accentGround};
    border-color: ${theme.accent};
  }
`;

/** An action that takes something away. */
export const DangerButton = styled(QuietButton)`
  color: ${theme.danger};
  border-color: ${theme.danger};
  &[data-hovered] {
    background: ${theme.dangerGround};
  }
`;

/** An action of an icon alone: its label says verb and object. */
export const IconButton = styled(QuietButton)`
  min-width: 28px;
  padding: 4px;
  border-color: transparent;
`;

/** An action inside running text. */
export const LinkButton = styled(AriaButton)`
  display: inline;
  padding: 0;
  font: inherit;
  color: ${theme.accent};
  background: none;
  border: 0;
  border-radius: 2px;
  text-align: left;
  text-decoration: underline;
  text-decoration-color: ${theme.line};
  text-underline-offset: 2px;
  cursor: pointer;
  &[data-hovered] {
    text-decoration-color: currentColor;
  }
`;
