import { keepPreviousData, useInfiniteQuery } from "@tanstack/react-query";
import {
  type RowSelectionState,
  rowSelectionFeature,
  rowSortingFeature,
  tableFeatures,
  useTable,
} from "@tanstack/react-table";
import { useWindowVirtualizer } from "@tanstack/react-virtual";
import { type ReactNode, useEffect, useMemo, useRef, useState } from "react";
import { ask } from "./api";
import { count } from "./format";
import { Button, Empty, th } from "./ui";

/** A stretch of a list, as the service gives it. */
type Page<T> = { rows: T[]; total: number };

const pageSize = 100;

/** paged unwraps an answer that is a stretch of a list. */
export async function paged<T>(p: Promise<{ data?: T[]; error?: unknown; response: Response }>): Promise<Page<T>> {
  const r = await p;
  const rows = await ask(Promise.resolve(r));
  return { rows, total: Number(r.response.headers.get("X-Total-Count") ?? rows.length) };
}

/** given leaves out what a list is not narrowed by, for the question to the service. */
export function given<T extends Record<string, string>>(by: T): { [K in keyof T]?: string } {
  return Object.fromEntries(Object.entries(by).filter(([, v]) => v)) as { [K in keyof T]?: string };
}

export type List<T> = {
  rows: T[];
  total: number;
  known: boolean;
  error: unknown;
  more: () => void;
  hasMore: boolean;
};

/** useList pages through a list of the service; `by` is what it is narrowed and ordered by. */
export function useList<T extends { id: string }>(
  key: string,
  by: Record<string, string>,
  every: number,
  load: (limit: number, skip: number) => Promise<Page<T>>,
): List<T> {
  return usePages(key, by, every, load, (last, all) => {
    const had = all.reduce((n, p) => n + p.rows.length, 0);
    return last.rows.length && had < last.total ? had : undefined;
  });
}

/** useBefore pages back through lines that only ever grow, each with a rising number as its ID. */
export function useBefore<T extends { id: string }>(
  key: string,
  by: Record<string, string>,
  every: number,
  load: (limit: number, before: number | undefined) => Promise<T[]>,
): List<T> {
  return usePages(
    key,
    by,
    every,
    async (limit, before) => {
      const rows = await load(limit, before || undefined);
      return { rows, total: rows.length };
    },
    (last) => (last.rows.length === pageSize ? Number(last.rows.at(-1)?.id) : undefined),
  );
}

function usePages<T extends { id: string }>(
  key: string,
  by: Record<string, string>,
  every: number,
  load: (limit: number, from: number) => Promise<Page<T>>,
  next: (last: Page<T>, all: Page<T>[]) => number | undefined,
): List<T> {
  const q = useInfiniteQuery({
    queryKey: [key, "list", by],
    queryFn: ({ pageParam }) => load(pageSize, pageParam),
    initialPageParam: 0,
    getNextPageParam: next,
    // All of the pages are asked for anew, so many of them not as often.
    refetchInterval: (x) => every * Math.max(1, x.state.data?.pages.length ?? 1),
    placeholderData: keepPreviousData,
  });
  const rows = useMemo(() => {
    // What comes in between two pages moves the others on: nothing is shown twice.
    const seen = new Set<string>();
    return (q.data?.pages ?? []).flatMap((p) => p.rows).filter((r) => !seen.has(r.id) && seen.add(r.id));
  }, [q.data]);
  return {
    rows,
    total: Math.max(rows.length, q.data?.pages.at(-1)?.total ?? 0),
    known: !!q.data,
    error: q.error,
    hasMore: q.hasNextPage,
    more: () => {
      if (!q.isFetching) void q.fetchNextPage();
    },
  };
}

export type Column<T> = {
  id: string;
  head: string;
  /** The service's name of the order, if it has one; `down` is the way it is asked for first. */
  sort?: string;
  down?: boolean;
  right?: boolean;
  look?: string;
  cell: (row: T) => ReactNode;
};

const features = tableFeatures({ rowSelectionFeature, rowSortingFeature });

/** RowTable shows a list's rows: only those in sight are in the page. Rows are sorted by the service. */
export function RowTable<T extends { id: string }>(p: {
  label: string;
  columns: Column<T>[];
  list: List<T>;
  sort?: string;
  onSort?: (sort: string) => void;
  nameOf?: (row: T) => string;
  bulk?: (chosen: T[], clear: () => void) => ReactNode;
  none: ReactNode;
}) {
  const { columns, list, bulk } = p;
  const [chosen, setChosen] = useState<RowSelectionState>({});
  const sort = p.sort ?? "";
  const table = useTable({
    features,
    data: list.rows,
    columns: useMemo(
      () =>
        columns.map((c) => ({
          id: c.id,
          accessorFn: (r: T) => r.id,
          enableSorting: !!c.sort,
          sortDescFirst: !!c.down,
        })),
      [columns],
    ),
    getRowId: (r: T) => r.id,
    manualSorting: true,
    enableMultiSort: false,
    state: {
      rowSelection: chosen,
      sorting: columns
        .filter((c) => c.sort && c.sort === sort.replace(/^-/, ""))
        .map((c) => ({ id: c.id, desc: sort.startsWith("-") })),
    },
    onRowSelectionChange: setChosen,
    onSortingChange: (next) => {
      const was = columns
        .filter((c) => c.sort && c.sort === sort.replace(/^-/, ""))
        .map((c) => ({ id: c.id, desc: sort.startsWith("-") }));
      const first = (typeof next === "function" ? next(was) : next)[0];
      const by = columns.find((c) => c.id === first?.id)?.sort;
      p.onSort?.(by && first ? (first.desc ? "-" : "") + by : "");
    },
  });
  const rows = table.getRowModel().rows;
  const picked = list.rows.filter((r) => chosen[r.id]);
  const body = useRef<HTMLTableSectionElement>(null);
  const [top, setTop] = useState(0);
  useEffect(() => {
    setTop(Math.round((body.current?.getBoundingClientRect().top ?? 0) + window.scrollY));
  }, []);
  const virtual = useWindowVirtualizer({
    count: rows.length,
    estimateSize: () => 53,
    overscan: 25,
    scrollMargin: top,
    getItemKey: (i) => rows[i]?.id ?? i,
  });
  const inSight = virtual.getVirtualItems();
  const last = inSight.at(-1);
  const above = (inSight[0]?.start ?? top) - top;
  const below = virtual.getTotalSize() - ((last?.end ?? top) - top);
  const { more, hasMore } = list;
  const atEnd = last?.index === rows.length - 1;
  const scrolled = (virtual.scrollOffset ?? 0) > 0;
  useEffect(() => {
    if (atEnd && hasMore && scrolled) more();
  }, [atEnd, hasMore, scrolled, more]);
  const width = columns.length + (bulk ? 1 : 0);
  const at = new Map(columns.map((c) => [c.id, c]));
  return (
    <div className="overflow-x-auto">
      {bulk && picked.length > 0 && (
        <div className="flex flex-wrap items-center gap-2 border-line border-b bg-still-bg px-4 py-2">
          <span role="status" className="mr-1 font-semibold">
            {picked.length} selected
          </span>
          {bulk(picked, () => setChosen({}))}
          <Button small onClick={() => setChosen({})}>
            Select none
          </Button>
        </div>
      )}
      <table className="w-full" aria-label={p.label} aria-rowcount={list.total + 1}>
        <thead>
          <tr aria-rowindex={1}>
            {bulk && (
              <th className="w-8 py-2 pl-4">
                <input
                  type="checkbox"
                  aria-label="Select all that are shown"
                  disabled={!rows.length}
                  checked={table.getIsAllRowsSelected()}
                  ref={(e) => {
                    if (e) e.indeterminate = table.getIsSomeRowsSelected() && !table.getIsAllRowsSelected();
                  }}
                  onChange={table.getToggleAllRowsSelectedHandler()}
                />
              </th>
            )}
            {table.getHeaderGroups()[0]?.headers.map((h) => {
              const c = at.get(h.column.id);
              const way = h.column.getIsSorted();
              return (
                <th
                  key={h.id}
                  className={`${th} ${c?.right ? "text-right" : ""} ${c?.look ?? ""}`}
                  aria-sort={way ? (way === "desc" ? "descending" : "ascending") : undefined}
                >
                  {h.column.getCanSort() && p.onSort ? (
                    <button
                      type="button"
                      className="cursor-pointer font-semibold hover:text-ink"
                      onClick={h.column.getToggleSortingHandler()}
                    >
                      {c?.head}
                      <span aria-hidden="true">{way === "desc" ? " ↓" : way === "asc" ? " ↑" : ""}</span>
                    </button>
                  ) : c?.head ? (
                    c.head
                  ) : (
                    <span className="sr-only">Actions</span>
                  )}
                </th>
              );
            })}
          </tr>
        </thead>
        <tbody ref={body}>
          {above > 0 && (
            <tr>
              <td colSpan={width} style={{ height: above }} />
            </tr>
          )}
          {inSight.map((v) => {
            const row = rows[v.index];
            if (!row) return null;
            return (
              <tr
                key={row.id}
                ref={virtual.measureElement}
                data-index={v.index}
                aria-rowindex={v.index + 2}
                aria-selected={bulk ? row.getIsSelected() : undefined}
                className="border-line border-t aria-selected:bg-still-bg"
              >
                {bulk && (
                  <td className="py-2 pl-4 align-top">
                    <input
                      type="checkbox"
                      aria-label={`Select ${p.nameOf?.(row.original) ?? row.id}`}
                      checked={row.getIsSelected()}
                      onChange={row.getToggleSelectedHandler()}
                    />
                  </td>
                )}
                {columns.map((c) => (
                  <td
                    key={c.id}
                    className={`px-4 py-2 align-top ${c.right ? "whitespace-nowrap text-right" : ""} ${c.look ?? ""}`}
                  >
                    {c.cell(row.original)}
                  </td>
                ))}
              </tr>
            );
          })}
          {below > 0 && (
            <tr>
              <td colSpan={width} style={{ height: below }} />
            </tr>
          )}
        </tbody>
      </table>
      {list.known && !rows.length && <Empty>{p.none}</Empty>}
      {hasMore && (
        <div className="flex items-center gap-3 border-line border-t px-4 py-2 text-muted text-xs">
          {list.total > rows.length
            ? `${rows.length} of ${list.total} are shown`
            : `${count(rows.length, "line")} so far`}
          <Button small onClick={more}>
            Show more
          </Button>
        </div>
      )}
    </div>
  );
}
