import {
  columnResizingFeature,
  columnSizingFeature,
  columnVisibilityFeature,
  createColumnHelper,
  tableFeatures,
  useTable,
  type ColumnSizingState,
  type ColumnVisibilityState,
} from '@tanstack/react-table';
import { useVirtualizer } from '@tanstack/react-virtual';
import {
  Fragment,
  useEffect,
  useLayoutEffect,
  useMemo,
  useRef,
  useState,
  type KeyboardEvent,
  type ReactNode,
} from 'react';
import styled from 'styled-components';
import { hatched, theme } from '../../app/theme';
import type { Json } from '../../lib/client';
import { useKept } from '../../lib/store';
import { ColumnChooser } from './ColumnChooser';
import { plain, widthOf, type Kind } from './kinds';
import { DataRow, type RowActs } from './DataRow';
import { RowSheet } from './RowSheet';

/** A column: what it is called, what kind of values it has, and where they are in a row. */
export interface DataColumn<Row> {
  id: string;
  kind: Kind;
  value: (row: Row) => Json | undefined;
  /** Something else than the value, such as a list that opens. */
  cell?: (row: Row, at: number) => ReactNode;
  /** What stands below the column's name. */
  note?: ReactNode;
  /** Is it withheld, and by what? */
  withheld?: (row: Row) => string | null;
}

interface Props<Row> {
  label: string;
  /** Under which name widths and chosen columns are remembered. */
  remember: string;
  columns: DataColumn<Row>[];
  rows: Row[];
  /** What is below a row, across all columns: a nested list that is open. */
  below?: (row: Row, at: number) => ReactNode;
  /** Why the row as a whole is withheld. */
  rowWithheld?: (row: Row) => string | null;
  /** What stands behind the last row. */
  after?: ReactNode;
  /** Has it a height of its own, in which it scrolls? Else it is as high as its rows. */
  scrolls?: boolean;
}

const features = tableFeatures({ columnSizingFeature, columnResizingFeature, columnVisibilityFeature });
/** Rows from which on only those in sight are there. */
const VIRTUAL_FROM = 200;
const ROW_HEIGHT = 29;

/** Rows and columns of values. The keyboard moves by cell, Enter opens the row, copying gives what is seen. */
export function DataTable<Row>({
  label,
  remember,
  columns,
  rows,
  below,
  rowWithheld,
  after,
  scrolls = false,
}: Props<Row>) {
  const [sizes, setSizes] = useKept<ColumnSizingState>('browser', `widths.${remember}`, {});
  const [shown, setShown] = useKept<ColumnVisibilityState>('browser', `columns.${remember}`, {});
  const [active, setActive] = useState<[number, number]>([0, 0]);
  const [opened, setOpened] = useState<number | null>(null);
  const scroller = useRef<HTMLDivElement>(null);
  const helper = useMemo(() => createColumnHelper<typeof features, { row: Row }>(), []);
  const defined = useMemo(
    () =>
      helper.columns(
        columns.map((column) =>
          helper.accessor(({ row }) => column.value(row), {
            id: column.id,
            size: widthOf(column.id, column.kind, rows.slice(0, 50).map(column.value)),
            minSize: 48,
          }),
        ),
      ),
    [columns, helper, rows],
  );
  const data = useMemo(() => rows.map((row) => ({ row })), [rows]);
  const table = useTable({
    features,
    columns: defined,
    data,
    columnResizeMode: 'onChange',
    state: { columnSizing: sizes, columnVisibility: shown },
    onColumnSizingChange: (next) => {
      setSizes(typeof next === 'function' ? next(sizes) : next);
    },
    onColumnVisibilityChange: (next) => {
      setShown(typeof next === 'function' ? next(shown) : next);
    },
  });
  const visible = useMemo(() => columns.filter((column) => shown[column.id] !== false), [columns, shown]);
  const headers = table.getHeaderGroups()[0]?.headers ?? [];
  const isVirtual = scrolls && rows.length > VIRTUAL_FROM;
  // Nothing here is memoized by a compiler: what is in sight is asked anew each time.
  // eslint-disable-next-line react-hooks/incompatible-library
  const virtual = useVirtualizer({
    count: isVirtual ? rows.length : 0,
    getScrollElement: () => scroller.current,
    estimateSize: () => ROW_HEIGHT,
    overscan: 12,
  });
  const items = isVirtual ? virtual.getVirtualItems() : null;
  const indexes = items ? items.map((item) => item.index) : rows.map((_, index) => index);
  const before = items?.[0]?.start ?? 0;
  const behind = items ? virtual.getTotalSize() - (items.at(-1)?.end ?? 0) : 0;

  // The cell that the keys went to and that is not drawn yet: the next key goes on from there, and it has the focus once it is there.
  const awaited = useRef<[number, number] | null>(null);
  const focusAwaited = () => {
    if (awaited.current === null) return;
    const [row, column] = awaited.current;
    const cell = scroller.current?.querySelector<HTMLElement>(`[data-at="${String(row)}-${String(column)}"]`);
    cell?.focus();
  };
  useLayoutEffect(focusAwaited);
  const focus = (row: number, column: number) => {
    const at: [number, number] = [
      Math.max(0, Math.min(rows.length - 1, row)),
      Math.max(0, Math.min(visible.length - 1, column)),
    ];
    awaited.current = at;
    setActive(at);
    if (isVirtual) virtual.scrollToIndex(at[0]);
    focusAwaited();
  };
  const onKey = (event: KeyboardEvent, from: number, under: number) => {
    const [row, column] = awaited.current ?? [from, under];
    const moves: Record<string, [number, number]> = {
      ArrowUp: [row - 1, column],
      ArrowDown: [row + 1, column],
      ArrowLeft: [row, column - 1],
      ArrowRight: [row, column + 1],
      Home: [event.ctrlKey ? 0 : row, 0],
      End: [event.ctrlKey ? rows.length - 1 : row, visible.length - 1],
      PageUp: [row - 15, column],
      PageDown: [row + 15, column],
    };
    const move = moves[event.key];
    if (move) {
      event.preventDefault();
      focus(...move);
    } else if (event.key === 'Enter') {
      event.preventDefault();
      const inside = event.currentTarget.querySelector<HTMLElement>('button, a');
      if (inside) inside.click();
      else setOpened(row);
    } else if (
      event.key === 'c' &&
      (event.ctrlKey || event.metaKey) &&
      (window.getSelection()?.toString() ?? '') === ''
    ) {
      const value = rows[row] === undefined ? undefined : visible[column]?.value(rows[row]);
      void navigator.clipboard.writeText(plain(value ?? null));
    }
  };
  // The rows are given one object for good: none of them is drawn anew because another one came into sight.
  const latest = useRef(onKey);
  useEffect(() => {
    latest.current = onKey;
  });
  const acts = useMemo<RowActs>(
    () => ({
      onKey: (event, row, column) => {
        latest.current(event, row, column);
      },
      onFocus: (row, column) => {
        awaited.current = null;
        setActive([row, column]);
      },
      onOpen: setOpened,
    }),
    [],
  );

  return (
    <Outer $scrolls={scrolls}>
      <Scroller ref={scroller} $scrolls={scrolls}>
        <Table role="grid" aria-label={label} aria-rowcount={rows.length} style={{ width: table.getTotalSize() }}>
          <thead>
            <tr>
              {headers.map((header, index) => {
                const column = visible[index];
                return (
                  <th
                    key={header.id}
                    scope="col"
                    style={{ width: header.getSize() }}
                    className={column?.kind === 'number' ? 'right' : ''}
                  >
                    <span>{column?.id}</span>
                    {column?.note}
                    <Handle
                      onPointerDown={(event) => {
                        header.getResizeHandler()(event);
                      }}
                      onDoubleClick={() => {
                        header.column.resetSize();
                      }}
                      aria-hidden="true"
                    />
                  </th>
                );
              })}
            </tr>
          </thead>
          <tbody>
            {before > 0 && (
              <tr aria-hidden="true">
                <td style={{ height: before, padding: 0 }} colSpan={visible.length} />
              </tr>
            )}
            {indexes.map((at) => {
              const row = rows[at];
              if (row === undefined) return null;
              const inside = below?.(row, at);
              return (
                <Fragment key={at}>
                  <DataRow
                    row={row}
                    at={at}
                    columns={visible as DataColumn<unknown>[]}
                    active={active[0] === at ? active[1] : null}
                    why={rowWithheld?.(row) ?? null}
                    acts={acts}
                  />
                  {inside !== undefined && inside !== null && (
                    <tr>
                      <Below colSpan={visible.length}>{inside}</Below>
                    </tr>
                  )}
                </Fragment>
              );
            })}
            {behind > 0 && (
              <tr aria-hidden="true">
                <td style={{ height: behind, padding: 0 }} colSpan={visible.length} />
              </tr>
            )}
          </tbody>
        </Table>
        {after}
      </Scroller>
      {columns.length > 3 && (
        <ColumnChooser columns={columns.map((column) => column.id)} hidden={shown} onChange={setShown} />
      )}
      {opened !== null && rows[opened] !== undefined && (
        <RowSheet
          label={label}
          row={rows[opened]}
          columns={columns}
          onClose={() => {
            setOpened(null);
          }}
        />
      )}
    </Outer>
  );
}

const Outer = styled.div<{ $scrolls: boolean }>`
  position: relative;
  min-width: 0;
  ${({ $scrolls }) => ($scrolls ? 'display: flex; flex-direction: column; height: 100%; min-height: 0;' : '')}
`;
const Scroller = styled.div<{ $scrolls: boolean }>`
  /* What is for readers of screens alone lies within it, too, and makes nobody else scroll. */
  position: relative;
  overflow: auto;
  min-height: 0;
  ${({ $scrolls }) => ($scrolls ? 'flex: 1;' : '')}
`;
const Table = styled.table`
  table-layout: fixed;
  border-collapse: separate;
  border-spacing: 0;
  min-width: 100%;
  th,
  td {
    padding: 4px 10px 4px 8px;
    text-align: left;
    vertical-align: top;
    border-bottom: 1px solid ${theme.line};
    overflow: hidden;
  }
  th {
    position: sticky;
    top: 0;
    z-index: 1;
    background: ${theme.raised};
    color: ${theme.muted};
    font-weight: 600;
    border-bottom-color: ${theme.strongLine};
    white-space: nowrap;
    text-overflow: ellipsis;
  }
  td > div {
    display: -webkit-box;
    -webkit-box-orient: vertical;
    -webkit-line-clamp: 2;
    overflow: hidden;
    overflow-wrap: break-word;
  }
  td:focus-within > div {
    -webkit-line-clamp: unset;
  }
  .right {
    text-align: right;
  }
  .right > div,
  .even > div {
    display: block;
    white-space: nowrap;
    text-overflow: ellipsis;
  }
  td:focus {
    outline: 2px solid ${theme.accent};
    outline-offset: -2px;
  }
  tr.withheld td {
    opacity: 0.75;
    background-image: ${hatched};
  }
  td.struck {
    background-image: ${hatched};
  }
  td.struck > div {
    text-decoration: line-through;
    text-decoration-color: ${theme.muted};
  }
`;
const Handle = styled.span`
  position: absolute;
  top: 0;
  right: 0;
  width: 7px;
  height: 100%;
  cursor: col-resize;
  touch-action: none;
  border-right: 1px solid ${theme.line};
  &:hover {
    border-right: 3px solid ${theme.accent};
  }
`;
const Below = styled.td`
  padding-left: 24px !important;
  background: ${theme.raised};
`;
