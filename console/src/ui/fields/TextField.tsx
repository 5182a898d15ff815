import type { ReactNode } from 'react';
import { FieldError, Input, Label, Text, TextArea, TextField as AriaTextField } from 'react-aria-components';
import styled from 'styled-components';
import { theme } from '../../app/theme';
import { box } from './box';

interface Props {
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
export function TextField(props: Props) {
  const {
    label,
    value,
    onChange,
    placeholder,
    help,
    error,
    type = 'text',
    mono = false,
    lines,
    disabled = false,
  } = props;
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
  label {
    font-weight: 600;
    font-size: 12px;
  }
  [slot='description'] {
    color: ${theme.muted};
    font-size: 12px;
  }
  [slot='errorMessage'] {
    color: ${theme.danger};
    font-size: 12px;
  }
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
