/** Lengths and angles as people type them: any unit by its suffix, decimal point or comma. The server speaks metres. */
import { z } from "zod";
import { UNITS, type Unit } from "./units";

const METRES: Record<string, number> = {
  mm: 0.001,
  cm: 0.01,
  dm: 0.1,
  m: 1,
  km: 1000,
  ft: 0.3048,
  usft: 1200 / 3937,
  "'": 0.3048,
  "′": 0.3048,
  in: 0.0254,
  '"': 0.0254,
  "″": 0.0254,
};
const PIECE = /^([+\-−]?\d*(?:[.,]\d*)?(?:e[+-]?\d+)?)\s*(mm|cm|dm|km|m|usft|ft|in|'|′|"|″)?\s*/i;

/** Metres of what was typed ("1,25", "35 mm", "4' 6\""); a bare number is in `unit`. null when it is no length. */
export function metresOf(text: string, unit: Unit): number | null {
  let rest = text.trim();
  let sum = 0;
  let sign = 1;
  for (let k = 0; rest !== ""; k++) {
    const found = PIECE.exec(rest);
    const number = found?.[1]?.replace("−", "-").replace(",", ".") ?? "";
    if (!found || !/\d/.test(number)) return null;
    if (k > 0 && (!found[2] || /^[+-]/.test(number))) return null; // feet and inches, not two numbers
    const value = Number(number) * (found[2] ? METRES[found[2].toLowerCase()]! : 1 / UNITS[unit].metre);
    if (!Number.isFinite(value)) return null;
    if (k === 0 && number.startsWith("-")) sign = -1;
    sum += Math.abs(value);
    rest = rest.slice(found[0].length);
  }
  return text.trim() === "" ? null : sign * sum;
}

/** Metres of several lengths ("72.5; 100" or "72.5 100"), each as in `metresOf`; null when one of them is none, [] for nothing. */
export function lengthsOf(text: string, unit: Unit): number[] | null {
  const found = text
    .split(/;|,\s|\s+(?=[\d.,])/)
    .map((piece) => piece.trim())
    .filter(Boolean)
    .map((piece) => metresOf(piece, unit));
  return found.some((v) => v === null) ? null : (found as number[]);
}

/** Degrees of what was typed ("12,5", "12.5°", "14 gon"). */
export function degreesOf(text: string): number | null {
  const found = /^([+\-−]?\d*(?:[.,]\d*)?)\s*(°|deg|gon)?$/i.exec(text.trim());
  const number = found?.[1]?.replace("−", "-").replace(",", ".") ?? "";
  if (!found || !/\d/.test(number) || !Number.isFinite(Number(number))) return null;
  return Number(number) * (found[2]?.toLowerCase() === "gon" ? 0.9 : 1);
}

/** A value as a field first shows it: as exact as it is, no finer than a tenth of a millimetre, without empty zeros. */
export function shown(metres: number, unit: Unit): string {
  const digits = { m: 4, mm: 1, ft: 5, us_ft: 5 }[unit];
  return String(Number((metres * UNITS[unit].metre).toFixed(digits)));
}
export const shownDegrees = (degrees: number) => String(Number(degrees.toFixed(4)));

export interface Rule {
  least?: number; // metres, or degrees
  most?: number;
  above?: number; // must be larger than this
  angle?: boolean;
}

/** What a field must hold, and the metres (or degrees) it gives; errors say what is expected. */
export function length(unit: Unit, rule: Rule = {}) {
  const words = (v: number) => (rule.angle ? `${shownDegrees(v)}°` : `${shown(v, unit)} ${UNITS[unit].name}`);
  return z.string().transform((text, context) => {
    const value = rule.angle ? degreesOf(text) : metresOf(text, unit);
    const say = (message: string) => context.addIssue({ code: "custom", message });
    if (value === null) say(rule.angle ? "an angle, as 12.5 or 14 gon" : "a length, as 1.25 or 35 mm");
    else if (rule.least !== undefined && value < rule.least) say(`at least ${words(rule.least)}`);
    else if (rule.most !== undefined && value > rule.most) say(`at most ${words(rule.most)}`);
    else if (rule.above !== undefined && value <= rule.above) say(`more than ${words(rule.above)}`);
    else return value;
    return z.NEVER;
  });
}
