/** Our primitives: buttons, status marks (strings), figures with units, fields, tables. */
import { Tooltip } from "radix-ui";
import type { ButtonHTMLAttributes, InputHTMLAttributes, ReactNode, SelectHTMLAttributes } from "react";

type Status = "taut" | "slack" | "parted" | "loose";

/** The string mark of a status; never without its word near by. */
export function Mark({ status, off }: { status: Status; off?: boolean }) {
  const d = {
    taut: "M1 6H23",
    slack: "M1 3Q12 13 23 3",
    parted: "M1 6H8l2-3M10 9l-2-3M23 6h-7l-2-3M14 9l2-3",
    loose: "M1 6H23",
  }[off ? "loose" : status];
  return (
    <svg
      width="24"
      height="12"
      className="inline-block shrink-0"
      style={{ color: `var(--${off ? "loose" : status})` }}
      aria-hidden
    >
      <path
        d={d}
        fill="none"
        stroke="currentColor"
        strokeWidth="1.8"
        strokeDasharray={status === "loose" || off ? "1.5 3" : undefined}
        strokeLinecap="round"
      />
    </svg>
  );
}

export function StatusWord({ status, off }: { status: Status; off?: boolean }) {
  return (
    <span className="inline-flex items-center gap-1.5" style={{ color: `var(--${off ? "loose" : status})` }}>
      <Mark status={status} off={off} />
      {off ? "off" : status}
    </span>
  );
}

/** A hint that also says why something cannot be done. */
export function Hint({ text, children }: { text: string; children: ReactNode }) {
  if (!text) return <>{children}</>;
  return (
    <Tooltip.Root>
      <Tooltip.Trigger asChild>{children}</Tooltip.Trigger>
      <Tooltip.Portal>
        <Tooltip.Content
          sideOffset={6}
          className="z-50 max-w-72 rounded border border-rule bg-card px-2.5 py-1.5 text-[13px] text-ink shadow-lg"
        >
          {text}
        </Tooltip.Content>
      </Tooltip.Portal>
    </Tooltip.Root>
  );
}

interface Act extends ButtonHTMLAttributes<HTMLButtonElement> {
  main?: boolean;
  why?: string; // why it is not possible now; disables it
  pressed?: boolean;
  busy?: boolean;
}

export function Button({ main, why, pressed, busy, className = "", children, ...rest }: Act) {
  const off = Boolean(why) || busy;
  const look = main
    ? "bg-action text-card border-action"
    : pressed
      ? "bg-halo border-lamp text-ink"
      : "bg-card border-rule text-action hover:border-action";
  return (
    <Hint text={why ?? ""}>
      <span className="inline-block">
        <button
          type="button"
          {...rest}
          aria-pressed={pressed}
          aria-disabled={off}
          onClick={off ? undefined : rest.onClick}
          className={`rounded border px-2.5 py-1 text-[13.5px] leading-5 ${look} ${off ? "cursor-not-allowed opacity-50" : "cursor-pointer"} ${className}`}
        >
          {children}
          {busy ? " …" : ""}
        </button>
      </span>
    </Hint>
  );
}

export function Row({
  name,
  value,
  unit,
  limit,
  doubt,
}: {
  name: string;
  value: ReactNode;
  unit?: string;
  limit?: string;
  doubt?: boolean;
}) {
  return (
    <div className="flex items-baseline gap-2 border-b border-rule/60 py-1 last:border-0">
      <span className="flex-1 text-[13.5px]">{name}</span>
      <span className={`figure text-[13.5px] ${doubt ? "text-slack" : ""}`}>{value}</span>
      <span className="w-8 font-mono text-[12px] text-quiet">{unit}</span>
      {limit !== undefined && <span className="figure w-14 text-[12px] text-quiet">{limit}</span>}
    </div>
  );
}

export function Field({
  label,
  unit,
  ...rest
}: InputHTMLAttributes<HTMLInputElement> & { label: string; unit?: string }) {
  return (
    <label className="flex items-center gap-2 py-0.5 text-[13.5px]">
      <span className="flex-1">{label}</span>
      <input
        {...rest}
        className={`${rest.type === "text" ? "w-40" : "w-24"} rounded border border-rule bg-card px-1.5 py-0.5 font-mono text-[13px] ${rest.type === "text" ? "" : "text-right"} ${rest.className ?? ""}`}
      />
      {unit !== undefined && <span className="w-7 font-mono text-[12px] text-quiet">{unit}</span>}
    </label>
  );
}

export function Pick({
  label,
  options,
  ...rest
}: SelectHTMLAttributes<HTMLSelectElement> & { label: string; options: [string, string][] }) {
  return (
    <label className="flex items-center gap-2 py-0.5 text-[13.5px]">
      <span className="flex-1">{label}</span>
      <select {...rest} className="rounded border border-rule bg-card px-1.5 py-0.5 text-[13px]">
        {options.map(([value, text]) => (
          <option key={value} value={value}>
            {text}
          </option>
        ))}
      </select>
    </label>
  );
}

/** The sentence a card begins with. */
export const Sentence = ({ children }: { children: ReactNode }) => (
  <p className="mb-2 text-[18px] leading-[1.35] font-medium">{children}</p>
);
export const Quiet = ({ children }: { children: ReactNode }) => (
  <p className="my-1.5 text-[13px] leading-snug text-quiet">{children}</p>
);
export const Actions = ({ children }: { children: ReactNode }) => (
  <div className="my-2 flex flex-wrap gap-1.5">{children}</div>
);
export const Heading = ({ children }: { children: ReactNode }) => (
  <h2 className="mt-3 mb-1 text-[12px] font-semibold tracking-wide text-quiet">{children}</h2>
);

export interface Column<T> {
  head: string;
  cell: (row: T) => ReactNode;
  value?: (row: T) => string | number | null; // for sorting and copying
  figure?: boolean;
  width?: string;
  says?: string; // what a column without a head holds, for those who do not see it
}

export const fixed = (v: number | null | undefined, digits = 1) =>
  v === null || v === undefined || !Number.isFinite(v) ? "–" : signed(v.toFixed(digits));
const signed = (text: string) => (/^-0\.?0*$/.test(text) ? text.slice(1) : text.replace("-", "−"));
/** 1234567 as 1,234,567; by hand, since the first use of the browser's own way takes a tenth of a second. */
export const grouped = (v: number) => String(Math.round(v)).replace(/\B(?=(\d{3})+$)/g, ",");
export function megabytes(v: number): string {
  return v > 1e9 ? `${(v / 1e9).toFixed(2)} GB` : v > 1e6 ? `${(v / 1e6).toFixed(1)} MB` : `${(v / 1e3).toFixed(0)} kB`;
}
/** What the server says in words; nothing when it says none. */
export const words = (v: unknown) => (typeof v === "string" ? v : "");

/** A line of text in a dialog that was opened to fill it in. */
export function Line(p: { label: string; value: string; onChange: (value: string) => void }) {
  return (
    <label className="block text-[13.5px]">
      {p.label}
      <input
        autoFocus
        value={p.value}
        maxLength={300}
        onChange={(e) => p.onChange(e.target.value)}
        className="mt-1 mb-3 w-full rounded border border-rule bg-paper px-2 py-1"
      />
    </label>
  );
}
