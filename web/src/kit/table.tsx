/** A ledger table: sortable, keyboard-driven, copies to a spreadsheet. */
import { useMemo, useState, type KeyboardEvent } from "react";
import type { Column } from ".";

interface Props<T> {
  rows: T[];
  columns: Column<T>[];
  id: (row: T) => string;
  selected?: (row: T) => boolean;
  onSelect?: (row: T) => void;
  empty: string;
}

export function Table<T>({ rows, columns, id, selected, onSelect, empty }: Props<T>) {
  const [order, setOrder] = useState<{ column: number; up: boolean } | null>(null);
  const sorted = useMemo(() => {
    const value = order && columns[order.column]?.value;
    if (!order || !value) return rows;
    const sign = order.up ? 1 : -1;
    return [...rows].sort((a, b) => {
      const [x, y] = [value(a), value(b)];
      if (x === null || y === null) return x === y ? 0 : x === null ? 1 : -1;
      return (x < y ? -1 : x > y ? 1 : 0) * sign;
    });
  }, [rows, order, columns]);

  function onKey(event: KeyboardEvent) {
    if (event.key === "c" && (event.ctrlKey || event.metaKey) && !window.getSelection()?.toString()) {
      const text = [columns.map((c) => c.head), ...sorted.map((r) => columns.map((c) => String(c.value?.(r) ?? "")))].map((r) => r.join("\t")).join("\n");
      void navigator.clipboard.writeText(text);
      return;
    }
    const step = event.key === "ArrowDown" ? 1 : event.key === "ArrowUp" ? -1 : 0;
    if (!step || !onSelect) return;
    event.preventDefault();
    const at = sorted.findIndex((r) => selected?.(r));
    const next = sorted[Math.max(0, Math.min(sorted.length - 1, at + step))];
    if (next) onSelect(next);
  }

  if (rows.length === 0) return <p className="p-4 text-[13.5px] text-quiet">{empty}</p>;
  return (
    <table className="w-full border-collapse text-[13px]" tabIndex={0} onKeyDown={onKey}>
      <thead className="sticky top-0 z-10 bg-card">
        <tr>
          {columns.map((c, k) => (
            <th key={c.head} className={`px-3 py-1 text-[11.5px] font-normal text-quiet ${c.figure ? "text-right" : "text-left"}`} style={{ width: c.width }}>
              {c.value ? (
                <button type="button" className="cursor-pointer" onClick={() => setOrder({ column: k, up: order?.column === k ? !order.up : true })}>
                  {c.head}
                  {order?.column === k ? (order.up ? " ↑" : " ↓") : ""}
                </button>
              ) : (
                c.head
              )}
            </th>
          ))}
        </tr>
      </thead>
      <tbody>
        {sorted.map((r) => (
          <tr key={id(r)} data-row={id(r)} aria-selected={selected?.(r)} onClick={() => onSelect?.(r)} className={`border-t border-rule/50 ${selected?.(r) ? "bg-halo" : "hover:bg-paper"} ${onSelect ? "cursor-pointer" : ""}`}>
            {columns.map((c) => (
              <td key={c.head} className={`px-3 py-[3px] ${c.figure ? "figure" : ""}`}>
                {c.cell(r)}
              </td>
            ))}
          </tr>
        ))}
      </tbody>
    </table>
  );
}
