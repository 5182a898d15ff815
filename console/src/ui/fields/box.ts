import { css } from 'styled-components';
import { theme } from '../../app/theme';

/** What is written or chosen in stands in a box. */
export const box = css`
  width: 100%;
  min-height: 28px;
  padding: 4px 8px;
  background: ${theme.surface};
  color: ${theme.text};
  border: 1px solid ${theme.strongLine};
  border-radius: 4px;
  &::placeholder {
    color: ${theme.muted};
    opacity: 1;
  }
  &[data-invalid] {
    border-color: ${theme.danger};
  }
  &[data-disabled] {
    opacity: 0.6;
  }
`;
