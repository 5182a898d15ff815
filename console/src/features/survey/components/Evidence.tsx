import styled from 'styled-components';
import { theme } from '../../../app/theme';

/** How many of the sampled values speak for something, as a small bar and in words. */
export function Evidence({ sampled, found }: { sampled: number; found: number }) {
  if (sampled === 0) return <Words>no values speak for it</Words>;
  return (
    <Whole>
      <Track aria-hidden="true">
        <i style={{ width: `${((found / sampled) * 100).toFixed(1)}%` }} />
      </Track>
      <Words>
        {found} of {sampled}
      </Words>
    </Whole>
  );
}

const Whole = styled.span`
  display: inline-flex;
  align-items: center;
  gap: 8px;
  min-width: 180px;
`;
const Track = styled.span`
  width: 80px;
  height: 8px;
  border: 1px solid ${theme.strongLine};
  border-radius: 2px;
  background: ${theme.surface};
  i {
    display: block;
    height: 100%;
    background: ${theme.accent};
  }
`;
const Words = styled.span`
  color: ${theme.muted};
  white-space: nowrap;
`;
