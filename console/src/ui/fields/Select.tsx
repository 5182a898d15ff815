import type { ReactNode } from 'react';
import { Button, Label, ListBox, ListBoxItem, Popover, Select as AriaSelect, SelectValue } from 'react-aria-components';
import styled from 'styled-components';
import { theme } from '../../app/theme';
import { Icon } from '../Icon';
import { box } from './box';

interface SelectProps<T extends string> {
  label: string;
  value: T | null;
  options: readonly { id: T; text: string; mark?: ReactNode }[];
  onChange: (value: T) => void;
  hideLabel?: boolean;
  placeholder?: string;
  disabled?: boolean;
}

/** One of a few. */
export function Select<T extends string>({
  label,
  value,
  options,
  onChange,
  hideLabel,
  placeholder,
  disabled,
}: SelectProps<T>) {
  return (
    <Choice
      selectedKey={value}
      onSelectionChange={(key) => {
        if (key !== null) onChange(key as T);
      }}
      placeholder={placeholder ?? 'choose'}
      isDisabled={disabled ?? false}
    >
      <Label className={hideLabel ? 'visually-hidden' : ''}>{label}</Label>
      <ChoiceButton>
        <SelectValue />
        <Icon name="down" />
      </ChoiceButton>
      <Floating>
        <Items items={options} aria-label={label}>
          {(option) => (
            <Item id={option.id} textValue={option.text}>
              {option.mark}
              {option.text}
            </Item>
          )}
        </Items>
      </Floating>
    </Choice>
  );
}

const Choice = styled(AriaSelect)`
  display: grid;
  gap: 2px;
  min-width: 0;
  > :first-child {
    font-weight: 600;
    font-size: 12px;
  }
`;
const ChoiceButton = styled(Button)`
  ${box}
  display: flex;
  align-items: center;
  justify-content: space-between;
  gap: 8px;
  cursor: pointer;
  > :first-child {
    display: flex;
    gap: 6px;
    align-items: center;
    overflow: hidden;
    text-overflow: ellipsis;
    white-space: nowrap;
  }
`;
export const Floating = styled(Popover)`
  min-width: var(--trigger-width);
  max-height: 320px;
  overflow: auto;
  background: ${theme.surface};
  border: 1px solid ${theme.strongLine};
  border-radius: 4px;
  box-shadow: ${theme.shadow};
`;
export const Items = styled(ListBox)`
  padding: 4px;
  outline: none;
` as typeof ListBox;
export const Item = styled(ListBoxItem)`
  display: flex;
  align-items: center;
  gap: 8px;
  padding: 4px 8px;
  border-radius: 3px;
  cursor: pointer;
  outline: none;
  &[data-focused],
  &[data-hovered] {
    background: ${theme.raised};
  }
  &[data-focus-visible] {
    outline: 2px solid ${theme.accent};
    outline-offset: -2px;
  }
  &[data-selected] {
    font-weight: 600;
  }
`;
