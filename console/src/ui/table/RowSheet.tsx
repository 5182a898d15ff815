import styled from 'styled-components';
import { theme } from '../../app/theme';
import { Sheet } from '../Sheet';
import type { DataColumn } from './DataTable';
import { Value } from './Value';

interface Props<Row> {
  label: string;
  row: Row;
  columns: DataColumn<Row>[];
  onClose: () => void;
}

/** One row with every value whole. */
export function RowSheet<Row>({ label, row, columns, onClose }: Props<Row>) {
  return (
    <Sheet title={`A row of ${label}`} onClose={onClose}>
      <List>
        {columns.map((column) => {
          const why = column.withheld?.(row) ?? null;
          return (
            <div key={column.id}>
              <dt>{column.id}</dt>
              <dd>
                {why !== null && <Why>withheld: {why} </Why>}
                <Value value={column.value(row)} kind={column.kind} whole />
              </dd>
            </div>
          );
        })}
      </List>
    </Sheet>
  );
}

const List = styled.dl`
  > div {
    display: grid;
    grid-template-columns: 160px minmax(0, 1fr);
    gap: 12px;
    padding: 4px 0;
    border-bottom: 1px solid ${theme.line};
  }
  dt {
    color: ${theme.muted};
    overflow-wrap: anywhere;
  }
  dd {
    overflow-wrap: anywhere;
    white-space: pre-wrap;
  }
`;
const Why = styled.span`
  color: ${theme.muted};
  font-style: italic;
`;
