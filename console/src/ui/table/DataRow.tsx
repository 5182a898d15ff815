import { memo, type KeyboardEvent } from 'react';
import type { DataColumn } from './DataTable';
import { Value } from './Value';

/** What a row's cells do. */
export interface RowActs {
  onKey: (event: KeyboardEvent, row: number, column: number) => void;
  onFocus: (row: number, column: number) => void;
  onOpen: (row: number) => void;
}

interface Props {
  row: unknown;
  at: number;
  columns: DataColumn<unknown>[];
  /** The cell that the keyboard is at, if it is in this row. */
  active: number | null;
  /** Why the row as a whole is withheld. */
  why: string | null;
  acts: RowActs;
}

/** One row: drawn anew only where something of it is different. */
export const DataRow = memo(function DataRow({ row, at, columns, active, why, acts }: Props) {
  return (
    <tr
      className={why === null ? '' : 'withheld'}
      title={why ?? undefined}
      aria-rowindex={at + 1}
      onDoubleClick={() => {
        acts.onOpen(at);
      }}
    >
      {columns.map((column, index) => {
        const hidden = column.withheld?.(row) ?? null;
        return (
          <td
            key={column.id}
            data-at={`${String(at)}-${String(index)}`}
            tabIndex={active === index ? 0 : -1}
            className={`${column.kind === 'number' ? 'right' : ''} ${column.kind === 'time' ? 'even' : ''} ${hidden === null ? '' : 'struck'}`}
            title={hidden ?? undefined}
            onFocus={() => {
              acts.onFocus(at, index);
            }}
            onKeyDown={(event) => {
              if (event.target === event.currentTarget) acts.onKey(event, at, index);
            }}
          >
            {(why !== null || hidden !== null) && <span className="visually-hidden">withheld: </span>}
            <div>{column.cell?.(row, at) ?? <Value value={column.value(row)} kind={column.kind} />}</div>
          </td>
        );
      })}
    </tr>
  );
});
