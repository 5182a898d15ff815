import type { ReactNode } from 'react';
import { Switch as AriaSwitch } from 'react-aria-components';
import styled from 'styled-components';
import { theme } from '../../app/theme';

interface Props {
  children: ReactNode;
  checked: boolean;
  onChange: (checked: boolean) => void;
  disabled?: boolean;
}

/** On or off, of one thing that takes effect at once. */
export function Switch({ children, checked, onChange, disabled = false }: Props) {
  return (
    <SwitchLabel isSelected={checked} onChange={onChange} isDisabled={disabled}>
      <span className="track" aria-hidden="true" />
      {children}
    </SwitchLabel>
  );
}

const SwitchLabel = styled(AriaSwitch)`
  display: inline-flex;
  align-items: center;
  gap: 6px;
  cursor: pointer;
  white-space: nowrap;
  .track {
    position: relative;
    width: 28px;
    height: 16px;
    border: 1px solid ${theme.strongLine};
    border-radius: 8px;
    background: ${theme.surface};
    &::after {
      content: '';
      position: absolute;
      top: 2px;
      left: 2px;
      width: 10px;
      height: 10px;
      border-radius: 5px;
      background: ${theme.muted};
    }
  }
  &[data-selected] .track {
    background: ${theme.accent};
    border-color: ${theme.accent};
    &::after {
      left: 14px;
      background: ${theme.onAccent};
    }
  }
  &[data-focus-visible] {
    outline: none;
    .track {
      outline: 2px solid ${theme.accent};
      outline-offset: 1px;
    }
  }
  &[data-disabled] {
    opacity: 0.6;
    cursor: default;
  }
`;
