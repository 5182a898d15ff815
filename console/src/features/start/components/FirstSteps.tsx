import { useNavigate, useSearch } from '@tanstack/react-router';
import styled from 'styled-components';
import { theme } from '../../../app/theme';
import type { ProjectState } from '../../../lib/interface';
import { useSession } from '../../../lib/session';
import { Page } from '../../../ui/layout';
import { Forbidden } from '../../../ui/states';
import { ChooseTypes } from './ChooseTypes';
import { Connect } from './Connect';
import { FirstAnswer } from './FirstAnswer';

const STEPS = [
  { id: 'connect', word: 'Database' },
  { id: 'types', word: 'Types' },
  { id: 'answer', word: 'First answer' },
] as const;

/** From a database's address to a first answer. Where one is, is in the address. */
export function FirstSteps({ state }: { state: ProjectState }) {
  const { me } = useSession();
  const { step } = useSearch({ from: '/' });
  const navigate = useNavigate();
  const at = STEPS.find((known) => known.id === step)?.id ?? 'connect';
  const go = (to: (typeof STEPS)[number]['id']) => {
    void navigate({ to: '/', search: (before) => ({ ...before, step: to }) });
  };
  const says =
    state.sources.length === 0
      ? 'This project has no source yet: begin with a database.'
      : 'Another database for this project.';
  return (
    <Page title="Start" says={says}>
      <Padded>
        <Way aria-label="Steps">
          {STEPS.map((known, index) => (
            <li key={known.id} aria-current={known.id === at ? 'step' : undefined}>
              {index + 1}. {known.word}
            </li>
          ))}
        </Way>
        {!me.editing ? (
          <Forbidden>{me.whyNot}</Forbidden>
        ) : at === 'connect' ? (
          <Connect
            known={state.sources.map((source) => source.name)}
            onDone={() => {
              go('types');
            }}
          />
        ) : at === 'types' ? (
          <ChooseTypes
            onDone={() => {
              go('answer');
            }}
          />
        ) : (
          <FirstAnswer />
        )}
      </Padded>
    </Page>
  );
}

const Padded = styled.div`
  display: grid;
  gap: 16px;
  max-width: 760px;
  margin: 0 auto;
  padding: 16px;
`;
const Way = styled.ol`
  display: flex;
  gap: 16px;
  color: ${theme.muted};
  [aria-current] {
    color: ${theme.text};
    font-weight: 600;
    border-bottom: 2px solid ${theme.accent};
  }
`;
