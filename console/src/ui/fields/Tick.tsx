import type { ReactNode } from 'react';
import { Checkbox } from 'react-aria-components';
import styled from 'styled-components';
import { theme } from '../../app/theme';
import { Icon } from '../Icon';

interface Props {
  children: ReactNode;
  checked: boolean;
  onChange: (checked: boolean) => void;
  disabled?: boolean;
  some?: boolean;
}

/** Yes or no, of many. */
export function Tick({ children, checked, onChange, disabled = false, some = false }: Props) {
  return (
    <TickLabel isSelected={checked} onChange={onChange} isDisabled={disabled} isIndeterminate={some}>
      <span className="box" aria-hidden="true">
        {some ? <Icon name="out" /> : checked ? <Icon name="check" /> : null}
      </span>
      <span className="words">{children}</span>
    </TickLabel>
  );
}

const TickLabel = styled(Checkbox)`
  display: flex;
  align-items: flex-start;
  gap: 8px;
  padding: 2px 0;
  cursor: pointer;
  .box {
    flex: none;
    display: grid;
    place-items: center;
    width: 16px;
    height: 16px;
    margin-top: 1px;
    border: 1px solid ${theme.strongLine};
    border-radius: 3px;
    background: ${theme.surface};
  }
  .words {
    min-width: 0;
    overflow-wrap: anywhere;
  }
  &[data-selected] .box,
  &[data-indeterminate] .box {
    background: ${theme.accent};
    border-color: ${theme.accent};
    color: ${theme.onAccent};
  }
  &[data-focus-visible] {
    outline: none;
    .box {
      outline: 2px solid ${theme.accent};
      outline-offset: 1px;
    }
  }
  &[data-disabled] {
    cursor: default;
    opacity: 0.6;
  }
`;
