/** Forms of lengths and angles: what was typed stays as it was typed, and what was not touched keeps its exact value. */
import { zodResolver } from "@hookform/resolvers/zod";
import { useEffect, useId } from "react";
import { useForm, type UseFormReturn } from "react-hook-form";
import { z } from "zod";
import { length, shown, shownDegrees, type Rule } from "./length";
import { UNITS, type Unit } from "./units";

type Names<N extends string> = Record<N, number>;
export interface Lengths<N extends string> {
  form: UseFormReturn<Record<string, string>, unknown, Record<string, number>>;
  unit: Unit;
  rules: Partial<Record<N, Rule>>;
  /** Metres and degrees of all fields; null while something in them is no such thing. */
  values: Names<N> | null;
  /** Why it cannot be used now, for a button; "" when it can. */
  why: string;
}

/**
 * A form that begins with these metres (degrees where the rule says angle). It begins anew when what it began with changes,
 * unless somebody has typed since.
 */
export function useLengths<N extends string>(
  begin: Names<N>,
  unit: Unit,
  rules: Partial<Record<N, Rule>> = {},
): Lengths<N> {
  const names = Object.keys(begin) as N[];
  const schema = z.object(Object.fromEntries(names.map((n) => [n, length(unit, rules[n])])));
  const texts = Object.fromEntries(
    names.map((n) => [n, rules[n]?.angle ? shownDegrees(begin[n]) : shown(begin[n], unit)]),
  );
  const form = useForm<Record<string, string>, unknown, Record<string, number>>({
    defaultValues: texts,
    resolver: zodResolver(schema),
    mode: "onChange",
  });
  const key = JSON.stringify([texts, unit]);
  useEffect(() => {
    form.reset((JSON.parse(key) as [Record<string, string>])[0], { keepDirtyValues: true });
  }, [form, key]);
  const now = form.watch();
  const read = schema.safeParse({ ...texts, ...now });
  const typed = (n: N) => now[n] !== undefined && now[n] !== texts[n];
  const values = read.success
    ? (Object.fromEntries(names.map((n) => [n, typed(n) ? (read.data as Names<N>)[n] : begin[n]])) as Names<N>)
    : null;
  const first = read.success ? null : read.error.issues[0];
  return { form, unit, rules, values, why: first ? `${String(first.path[0])}: ${first.message}` : "" };
}

export function LengthField<N extends string>({
  of,
  name,
  label,
  onCommit,
}: {
  of: Lengths<N>;
  name: N;
  label: string;
  onCommit?: () => void;
}) {
  const id = useId();
  const error = of.form.formState.errors[name]?.message;
  return (
    <div className="py-0.5 text-[13.5px]">
      <div className="flex items-center gap-2">
        <label htmlFor={id} className="flex-1">
          {label}
        </label>
        <input
          id={id}
          inputMode="decimal"
          autoComplete="off"
          aria-invalid={Boolean(error)}
          aria-describedby={error ? `${id}-error` : undefined}
          className={`w-[7.5rem] rounded border bg-card px-1.5 py-0.5 text-right font-mono text-[13px] ${error ? "border-parted" : "border-rule"}`}
          {...of.form.register(name as never, { onBlur: onCommit })}
          onKeyDown={(e) => e.key === "Enter" && onCommit?.()}
        />
        <span className="w-7 font-mono text-[12px] text-quiet">
          {of.rules[name]?.angle ? "°" : UNITS[of.unit].name}
        </span>
      </div>
      {error && (
        <p id={`${id}-error`} className="text-right text-[12.5px] text-parted">
          {error}
        </p>
      )}
    </div>
  );
}
