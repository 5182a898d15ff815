import { useQuery } from '@tanstack/react-query';
import { lazy, Suspense, useEffect, useState } from 'react';
import styled from 'styled-components';
import { theme } from '../../app/theme';
import type { ModelOverview, TypeSheet } from '../../lib/interface';
import { post } from '../../lib/project';
import { useSession } from '../../lib/session';
import { Faint } from '../layout';

const RuleEditor = lazy(() => import('./RuleEditor'));

interface Props {
  label: string;
  help: string;
  type: TypeSheet;
  model: ModelOverview;
  /** Claims that rules of this project look at. */
  claims: string[];
  value: string;
  disabled: boolean;
  onChange: (value: string) => void;
}

/** A rule in CEL: completed as it is typed, and checked against the model once the typing rests. */
export function RuleField({ label, help, type, model, claims, value, disabled, onChange }: Props) {
  const { key } = useSession();
  const [rested, setRested] = useState(value);
  useEffect(() => {
    const timer = setTimeout(() => {
      setRested(value);
    }, 350);
    return () => {
      clearTimeout(timer);
    };
  }, [value]);
  const verdict = useQuery({
    queryKey: ['project', 'rule', type.name, rested],
    queryFn: ({ signal }) => post(key, '/project/rules/check', { type: type.name, text: rested }, signal),
    enabled: rested.trim() !== '',
  });
  const mistake = rested === value && value.trim() !== '' ? (verdict.data?.mistake ?? null) : null;
  return (
    <section aria-label={label}>
      <h3>{label}</h3>
      <Box data-wrong={mistake !== null ? true : undefined}>
        <Suspense fallback={<pre>{value}</pre>}>
          <RuleEditor
            label={label}
            type={type}
            model={model}
            claims={claims}
            text={value}
            mistake={mistake}
            disabled={disabled}
            onChange={onChange}
          />
        </Suspense>
      </Box>
      {mistake ? <Wrong role="alert">{mistake.text}</Wrong> : <Faint>{help}</Faint>}
    </section>
  );
}

const Box = styled.div`
  border: 1px solid ${theme.strongLine};
  border-radius: 4px;
  overflow: hidden;
  min-height: 30px;
  &[data-wrong] {
    border-color: ${theme.danger};
  }
`;
const Wrong = styled.p`
  color: ${theme.danger};
  overflow-wrap: anywhere;
`;
