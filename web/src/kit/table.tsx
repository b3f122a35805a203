/** A ledger: sortable, filterable, keyboard-driven, copies to a spreadsheet; only the rows in view are in the page. */
import {
  getCoreRowModel,
  getFilteredRowModel,
  getSortedRowModel,
  useReactTable,
  type ColumnDef,
  type SortingState,
} from "@tanstack/react-table";
import { Popover } from "radix-ui";
import { useVirtualizer } from "@tanstack/react-virtual";
import { useEffect, useId, useMemo, useRef, useState, type KeyboardEvent } from "react";
import type { Column } from ".";
import { stateOf, Trouble, type Asked } from "./await";

interface Props<T> {
  what: string; // "links", as it is said while they are read
  from: Asked[];
  rows: T[];
  columns: Column<T>[];
  id: (row: T) => string;
  selected?: (row: T) => boolean;
  onSelect?: (row: T) => void;
  empty: string;
}
const hiddenOf = (what: string): string[] => {
  try {
    return JSON.parse(localStorage.getItem(`lantern.columns.${what}`) ?? "[]") as string[];
  } catch {
    return [];
  }
};
const MANY = 80; // rows from which only those in view are drawn

export function Table<T>({ what, from, rows, columns: all, id, selected, onSelect, empty }: Props<T>) {
  const own = useId();
  const scroller = useRef<HTMLDivElement>(null);
  const [sorting, setSorting] = useState<SortingState>([]);
  const [find, setFind] = useState("");
  const [hidden, setHidden] = useState(() => hiddenOf(what)); // heads of columns that somebody put away
  const columns = useMemo(() => all.filter((c) => !c.head || !hidden.includes(c.head)), [all, hidden]);
  const hide = (head: string, away: boolean) => {
    const next = away ? [...hidden, head] : hidden.filter((h) => h !== head);
    localStorage.setItem(`lantern.columns.${what}`, JSON.stringify(next));
    setHidden(next);
  };
  const state = stateOf(from);
  const defs = useMemo<ColumnDef<T>[]>(
    () =>
      columns.map((c, k) => ({
        id: String(k),
        accessorFn: (row: T) => c.value?.(row) ?? undefined,
        sortUndefined: "last",
        sortingFn: (a, b, column) => compare(a.getValue(column), b.getValue(column)),
        enableSorting: Boolean(c.value),
        enableGlobalFilter: Boolean(c.value),
      })),
    [columns],
  );

  const table = useReactTable({
    data: rows,
    columns: defs,
    state: { sorting, globalFilter: find },
    onSortingChange: setSorting,
    globalFilterFn: (row, column, text: string) =>
      String(row.getValue(column) ?? "")
        .toLowerCase()
        .includes(text.trim().toLowerCase()),
    getColumnCanGlobalFilter: (column) => column.columnDef.enableGlobalFilter !== false,
    getRowId: id,
    getCoreRowModel: getCoreRowModel(),
    getSortedRowModel: getSortedRowModel(),
    getFilteredRowModel: getFilteredRowModel(),
  });
  const shown = table.getRowModel().rows;
  const few = shown.length < MANY;
  const virtual = useVirtualizer({
    count: shown.length,
    getScrollElement: () => scroller.current,
    estimateSize: () => 27,
    overscan: 12,
    enabled: !few,
    getItemKey: (k) => shown[k]?.id ?? k,
  });
  const chosen = shown.findIndex((r) => selected?.(r.original));
  useEffect(() => {
    if (chosen < 0) return;
    if (few) scroller.current?.querySelector('[aria-selected="true"]')?.scrollIntoView({ block: "nearest" });
    else virtual.scrollToIndex(chosen);
  }, [chosen, few, virtual]);

  /** What is shown, as it is ordered and filtered: the heads, then each row; columns without values are left out. */
  function cells(): string[][] {
    const told = columns.filter((c) => c.value && c.head);
    return [told.map((c) => c.head), ...shown.map((r) => told.map((c) => String(c.value!(r.original) ?? "")))];
  }

  function onKey(event: KeyboardEvent) {
    if ((event.target as HTMLElement).closest("input, select, textarea, button, a")) return; // keys in a field are the field's
    if (event.key === "c" && (event.ctrlKey || event.metaKey) && !window.getSelection()?.toString()) {
      void navigator.clipboard.writeText(
        cells()
          .map((r) => r.join("\t"))
          .join("\n"),
      );
      return;
    }
    const to = {
      ArrowDown: chosen + 1,
      ArrowUp: chosen - 1,
      Home: 0,
      End: shown.length - 1,
      PageDown: chosen + 10,
      PageUp: chosen - 10,
    }[event.key];
    if (to === undefined || !onSelect) return;
    event.preventDefault();
    event.stopPropagation();
    const next = shown[Math.max(0, Math.min(shown.length - 1, to))];
    if (next) onSelect(next.original);
  }

  if (state === "failed") return <div className="p-2">{<Trouble asked={from} what={what} />}</div>;
  if (state === "loading")
    return (
      <p role="status" className="p-4 text-[13.5px] text-quiet">
        Reading {what} …
      </p>
    );
  if (rows.length === 0) return <p className="p-4 text-[13.5px] text-quiet">{empty}</p>;
  const items = few
    ? shown.map((r, k) => ({ row: r, index: k }))
    : virtual.getVirtualItems().map((v) => ({ row: shown[v.index]!, index: v.index }));
  const before = few ? 0 : (virtual.getVirtualItems()[0]?.start ?? 0);
  const after = few ? 0 : virtual.getTotalSize() - (virtual.getVirtualItems().at(-1)?.end ?? 0);
  return (
    <div ref={scroller} className="h-full overflow-auto">
      {state === "old" && <Trouble asked={from} what={what} old />}
      <div className="sticky left-0 flex items-center gap-3 px-3 pt-1 text-[12px] text-quiet">
        {(rows.length > 10 || find !== "") && (
          <input
            aria-label={`Filter ${what}`}
            placeholder={`Filter ${what}`}
            value={find}
            onChange={(e) => setFind(e.target.value)}
            className="w-48 rounded border border-rule bg-card px-2 py-0.5 text-[12.5px] text-ink"
          />
        )}
        {find.trim() !== "" && `${shown.length} of ${rows.length}`}
        <button
          type="button"
          className="cursor-pointer text-action underline"
          onClick={() => save(`${what}.csv`, asCsv(cells()))}
        >
          Download as CSV
        </button>
        <Popover.Root>
          <Popover.Trigger className="cursor-pointer text-action underline">
            Columns{hidden.length ? ` (${hidden.length} put away)` : ""}
          </Popover.Trigger>
          <Popover.Content
            align="start"
            className="z-30 rounded border border-rule bg-card p-2 text-[13px] text-ink shadow-lg"
          >
            {all
              .filter((c) => c.head)
              .map((c, k) => (
                <label key={c.head} className="flex cursor-pointer items-center gap-2 py-0.5">
                  <input
                    type="checkbox"
                    checked={!hidden.includes(c.head)}
                    disabled={k === 0 && !hidden.includes(c.head)}
                    onChange={(e) => hide(c.head, !e.target.checked)}
                  />
                  {c.head}
                </label>
              ))}
          </Popover.Content>
        </Popover.Root>
      </div>
      <table
        role="grid"
        aria-label={what}
        aria-rowcount={shown.length + 1}
        aria-activedescendant={chosen < 0 ? undefined : `${own}-${chosen}`}
        className="w-full border-collapse text-[13px]"
        tabIndex={0}
        onKeyDown={onKey}
      >
        <thead className="sticky top-0 z-10 bg-card">
          <tr>
            {columns.map((c, k) => {
              const column = table.getColumn(String(k))!;
              const order = column.getIsSorted();
              return (
                <th
                  key={k}
                  scope="col"
                  aria-sort={order ? (order === "asc" ? "ascending" : "descending") : undefined}
                  className={`px-3 py-1 text-[11.5px] font-normal whitespace-nowrap text-quiet ${c.figure ? "text-right" : "text-left"}`}
                  style={{ width: c.width }}
                >
                  {c.value && c.head ? (
                    <button
                      type="button"
                      className="cursor-pointer"
                      onClick={() => column.toggleSorting(order === "asc")}
                    >
                      {c.head}
                      {order ? (order === "asc" ? " ↑" : " ↓") : ""}
                    </button>
                  ) : (
                    c.head || <span className="sr-only">{c.says ?? "what can be done"}</span>
                  )}
                </th>
              );
            })}
          </tr>
        </thead>
        <tbody>
          {before > 0 && <tr aria-hidden style={{ height: before }} />}
          {items.map(({ row, index }) => {
            const on = selected?.(row.original) ?? false;
            return (
              <tr
                key={row.id}
                id={`${own}-${index}`}
                ref={few ? undefined : virtual.measureElement}
                data-index={index}
                data-row={row.id}
                aria-rowindex={index + 2}
                aria-selected={onSelect ? on : undefined}
                onClick={() => onSelect?.(row.original)}
                className={`border-t border-rule/50 ${on ? "bg-halo font-semibold shadow-[inset_3px_0_0_#e8a700]" : "hover:bg-paper"} ${onSelect ? "cursor-pointer" : ""}`}
              >
                {columns.map((c, k) => (
                  <td role="gridcell" key={k} className={`px-3 py-[3px] ${c.figure ? "figure" : ""}`}>
                    {c.cell(row.original)}
                  </td>
                ))}
              </tr>
            );
          })}
          {after > 0 && <tr aria-hidden style={{ height: after }} />}
        </tbody>
      </table>
      {shown.length === 0 && <p className="p-4 text-[13.5px] text-quiet">Nothing matches “{find.trim()}”.</p>}
    </div>
  );
}

/** RFC 4180; text that a spreadsheet would take for a formula is marked as text. */
export const asCsv = (rows: string[][]) =>
  rows
    .map((r) => r.map((c) => (/^[=@]|^[+-](?![\d.])/.test(c) ? `'${c}` : c)))
    .map((r) => r.map((c) => (/[",\r\n]/.test(c) ? `"${c.replaceAll('"', '""')}"` : c)).join(",") + "\r\n")
    .join("");

function save(name: string, text: string) {
  const url = URL.createObjectURL(new Blob([text], { type: "text/csv;charset=utf-8" }));
  const link = Object.assign(document.createElement("a"), { href: url, download: name });
  link.click();
  setTimeout(() => URL.revokeObjectURL(url), 1000);
}

/** Numbers by size, words as people order them ("ST-2" before "ST-10"). */
function compare(a: unknown, b: unknown): number {
  if (typeof a === "number" && typeof b === "number") return a - b;
  return String(a).localeCompare(String(b), "en", { numeric: true });
}
