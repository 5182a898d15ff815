import { Dialog, DialogTrigger } from 'react-aria-components';
import styled from 'styled-components';
import { theme } from '../../app/theme';
import { IconButton } from '../Button';
import { Floating, Tick } from '../fields';
import { Icon } from '../Icon';

interface Props {
  columns: string[];
  hidden: Record<string, boolean>;
  onChange: (hidden: Record<string, boolean>) => void;
}

/** Which columns are there. */
export function ColumnChooser({ columns, hidden, onChange }: Props) {
  return (
    <DialogTrigger>
      <Corner aria-label="Choose columns">
        <Icon name="more" />
      </Corner>
      <Floating>
        <List aria-label="Columns">
          {columns.map((column) => (
            <Tick
              key={column}
              checked={hidden[column] !== false}
              onChange={(checked) => {
                onChange({ ...hidden, [column]: checked });
              }}
            >
              {column}
            </Tick>
          ))}
        </List>
      </Floating>
    </DialogTrigger>
  );
}

const Corner = styled(IconButton)`
  position: absolute;
  top: 1px;
  right: 1px;
  z-index: 2;
  min-height: 24px;
  padding: 2px;
  background: ${theme.raised};
`;
const List = styled(Dialog)`
  padding: 8px 12px;
  max-height: 320px;
  overflow: auto;
  outline: none;
`;
