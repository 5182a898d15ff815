import styled from 'styled-components';
import type { FieldRule } from '../../../lib/interface';
import { IconButton } from '../../../ui/Button';
import { Select, TextField } from '../../../ui/fields';
import { Icon } from '../../../ui/Icon';
import { Faint, Stack } from '../../../ui/layout';

interface Props {
  title: string;
  help: string;
  names: string[];
  rules: FieldRule[];
  disabled: boolean;
  onChange: (rules: FieldRule[]) => void;
}

/** Rules about single fields. */
export function FieldRules({ title, help, names, rules, disabled, onChange }: Props) {
  const free = names.filter((name) => !rules.some((rule) => rule.field === name));
  return (
    <section aria-label={title}>
      <h3>{title}</h3>
      <Faint>{help}</Faint>
      <Stack $gap={4}>
        {rules.map(({ field, rule }, index) => (
          <Pair key={field}>
            <TextField
              label={`${title}: ${field}`}
              value={rule}
              mono
              disabled={disabled}
              onChange={(rule) => {
                onChange(rules.map((known, at) => (at === index ? { field, rule } : known)));
              }}
            />
            <IconButton
              aria-label={`Take ${field} out of ${title.toLowerCase()}`}
              isDisabled={disabled}
              onPress={() => {
                onChange(rules.filter((_, at) => at !== index));
              }}
            >
              <Icon name="remove" />
            </IconButton>
          </Pair>
        ))}
        {!disabled && free.length > 0 && (
          <Narrow>
            <Select
              label={`Add a field to ${title.toLowerCase()}`}
              hideLabel
              value={null}
              placeholder="add a field"
              options={free.map((name) => ({ id: name, text: name }))}
              onChange={(field) => {
                onChange([...rules, { field, rule: '' }]);
              }}
            />
          </Narrow>
        )}
      </Stack>
    </section>
  );
}

const Pair = styled.div`
  display: grid;
  grid-template-columns: minmax(0, 1fr) auto;
  align-items: end;
  gap: 4px;
`;
const Narrow = styled.div`
  width: 220px;
`;
