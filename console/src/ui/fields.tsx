import type { ReactNode } from 'react';
import {
  Checkbox as AriaCheckbox,
  FieldError,
  Input,
  Label,
  ListBox,
  ListBoxItem,
  Popover,
  Select as AriaSelect,
  SelectValue,
  Switch as AriaSwitch,
  Text,
  TextArea,
  TextField as AriaTextField,
  Button as AriaButton,
} from 'react-aria-components';
import styled, { css } from 'styled-components';
import { theme } from '../app/theme';
import { Icon } from './Icon';

const box = css`
  width: 100%;
  min-height: 28px;
  padding: 4px 8px;
  background: ${theme.surface};
  color: ${theme.text};
  border: 1px solid ${theme.strongLine};
  border-radius: 4px;
  &::placeholder { color: ${theme.muted}; opacity: 1; }
  &[data-invalid] { border-color: ${theme.danger}; }
  &[data-disabled] { opacity: 0.6; }
`;

interface TextProps {
  label: string;
  value: string;
  onChange: (value: string) => void;
  placeholder?: string;
  help?: ReactNode;
  error?: string | undefined;
  type?: 'text' | 'password' | 'search' | 'number';
  mono?: boolean;
  lines?: number;
  disabled?: boolean;
  autoFocus?: boolean;
  hideLabel?: boolean;
  onBlur?: () => void;
}

/** A line or a few of text, with its label, help and error. */
export function TextField(props: TextProps) {
  const { label, value, onChange, placeholder, help, error, type = 'text', mono = false, lines, disabled = false } = props;
  return (
    <Field
      value={value}
      onChange={onChange}
      isInvalid={error !== undefined}
      isDisabled={disabled}
      type={type}
      {...(props.autoFocus ? { autoFocus: true } : {})}
      {...(props.onBlur ? { onBlur: props.onBlur } : {})}
    >
      <Label className={props.hideLabel ? 'visually-hidden' : ''}>{label}</Label>
      {lines === undefined ? (
        <Line $mono={mono} placeholder={placeholder} autoComplete="off" spellCheck={false} />
      ) : (
        <Lines $mono={mono} rows={lines} placeholder={placeholder} spellCheck={false} />
      )}
      {help !== undefined && <Text slot="description">{help}</Text>}
      {error !== undefined && <FieldError>{error}</FieldError>}
    </Field>
  );
}

const Field = styled(AriaTextField)`
  display: grid;
  gap: 2px;
  min-width: 0;
  label { font-weight: 600; font-size: 12px; }
  [slot='description'] { color: ${theme.muted}; font-size: 12px; }
  [slot='errorMessage'] { color: ${theme.danger}; font-size: 12px; }
`;
const Line = styled(Input)<{ $mono: boolean }>`
  ${box}
  font-family: ${({ $mono }) => ($mono ? theme.mono : 'inherit')};
`;
const Lines = styled(TextArea)<{ $mono: boolean }>`
  ${box}
  resize: vertical;
  font-family: ${({ $mono }) => ($mono ? theme.mono : 'inherit')};
`;

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
export function Select<T extends string>({ label, value, options, onChange, hideLabel, placeholder, disabled }: SelectProps<T>) {
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
  > :first-child { font-weight: 600; font-size: 12px; }
`;
const ChoiceButton = styled(AriaButton)`
  ${box}
  display: flex;
  align-items: center;
  justify-content: space-between;
  gap: 8px;
  cursor: pointer;
  > :first-child { display: flex; gap: 6px; align-items: center; overflow: hidden; text-overflow: ellipsis; white-space: nowrap; }
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
  &[data-focused], &[data-hovered] { background: ${theme.raised}; }
  &[data-focus-visible] { outline: 2px solid ${theme.accent}; outline-offset: -2px; }
  &[data-selected] { font-weight: 600; }
`;

interface TickProps {
  children: ReactNode;
  checked: boolean;
  onChange: (checked: boolean) => void;
  disabled?: boolean;
  some?: boolean;
}

/** Yes or no, of many. */
export function Tick({ children, checked, onChange, disabled = false, some = false }: TickProps) {
  return (
    <TickLabel isSelected={checked} onChange={onChange} isDisabled={disabled} isIndeterminate={some}>
      <span className="box" aria-hidden="true">
        {some ? <Icon name="out" /> : checked ? <Icon name="check" /> : null}
      </span>
      <span className="words">{children}</span>
    </TickLabel>
  );
}

const TickLabel = styled(AriaCheckbox)`
  display: flex;
  align-items: flex-start;
  gap: 8px;
  padding: 2px 0;
  cursor: pointer;
  .box {
    flex: none; display: grid; place-items: center; width: 16px; height: 16px; margin-top: 1px;
    border: 1px solid ${theme.strongLine}; border-radius: 3px; background: ${theme.surface};
  }
  .words { min-width: 0; overflow-wrap: anywhere; }
  &[data-selected] .box, &[data-indeterminate] .box { background: ${theme.accent}; border-color: ${theme.accent}; color: ${theme.onAccent}; }
  &[data-focus-visible] { outline: none; .box { outline: 2px solid ${theme.accent}; outline-offset: 1px; } }
  &[data-disabled] { cursor: default; opacity: 0.6; }
`;

/** On or off, of one thing that takes effect at once. */
export function Switch({ children, checked, onChange, disabled = false }: TickProps) {
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
    position: relative; width: 28px; height: 16px; border: 1px solid ${theme.strongLine}; border-radius: 8px; background: ${theme.surface};
    &::after { content: ''; position: absolute; top: 2px; left: 2px; width: 10px; height: 10px; border-radius: 5px; background: ${theme.muted}; }
  }
  &[data-selected] .track { background: ${theme.accent}; border-color: ${theme.accent}; &::after { left: 14px; background: ${theme.onAccent}; } }
  &[data-focus-visible] { outline: none; .track { outline: 2px solid ${theme.accent}; outline-offset: 1px; } }
  &[data-disabled] { opacity: 0.6; cursor: default; }
`;
