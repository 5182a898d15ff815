import { Button as AriaButton } from 'react-aria-components';
import styled from 'styled-components';
import { theme } from '../app/theme';

/** The main action of a place. */
export const Button = styled(AriaButton)`
  padding: 7px 16px;
  font: inherit;
  font-weight: 600;
  color: ${theme.onAccent};
  background: ${theme.accent};
  border: 1px solid ${theme.accent};
  border-radius: 3px;
  cursor: pointer;
  &[data-hovered] { filter: brightness(1.1); }
  &[data-disabled] { opacity: 0.5; cursor: default; }
`;

/** A lesser action. */
export const QuietButton = styled(AriaButton)`
  padding: 4px 10px;
  font: inherit;
  color: ${theme.text};
  background: transparent;
  border: 1px solid ${theme.line};
  border-radius: 3px;
  cursor: pointer;
  &[data-hovered] { background: ${theme.raised}; }
`;

/** An action inside running text. */
export const LinkButton = styled(AriaButton)`
  padding: 0;
  font: inherit;
  color: ${theme.accent};
  background: none;
  border: 0;
  text-align: left;
  cursor: pointer;
  &[data-hovered] { text-decoration: underline; }
`;
