import { Label, ProgressBar } from 'react-aria-components';
import styled from 'styled-components';
import { theme } from '../app/theme';
import type { RunningState } from '../lib/interface';

/** How far a survey is, and what it looks at. */
export function SurveyProgress({ running }: { running: RunningState }) {
  const { what, done, of, source, milliseconds } = running;
  const share = of === 0 ? 0 : (done / of) * 100;
  const words = what === '' ? 'reading the catalog' : `${what}, ${String(done + 1)} of ${String(of)}`;
  return (
    <Bar value={share} valueLabel={words}>
      <Label>Surveying {source ?? 'every source'}</Label>
      <span className="words">
        {words}, {(milliseconds / 1000).toFixed(0)} s
      </span>
      <span className="track">
        <i style={{ width: `${share.toFixed(1)}%` }} />
      </span>
    </Bar>
  );
}

const Bar = styled(ProgressBar)`
  display: grid;
  grid-template-columns: auto 1fr;
  gap: 4px 12px;
  padding: 8px 12px;
  background: ${theme.surface};
  border: 1px solid ${theme.line};
  border-radius: 4px;
  .words {
    color: ${theme.muted};
    overflow-wrap: anywhere;
  }
  .track {
    grid-column: 1 / -1;
    height: 6px;
    border-radius: 3px;
    background: ${theme.raised};
    border: 1px solid ${theme.line};
  }
  i {
    display: block;
    height: 100%;
    border-radius: 3px;
    background: ${theme.accent};
  }
`;
