/** Lengths as the project shows them. The server speaks metres. */
export const UNITS = {
  m: { name: "m", metre: 1, digits: 3 },
  mm: { name: "mm", metre: 1000, digits: 0 },
  ft: { name: "ft", metre: 1 / 0.3048, digits: 3 },
  us_ft: { name: "ft US", metre: 3937 / 1200, digits: 3 },
} as const;
/** As people choose them. The two feet differ by 2 ppm: 1.2 m at 600 km. */
export const UNIT_CHOICES: [Unit, string][] = [
  ["m", "metres"],
  ["mm", "millimetres"],
  ["ft", "international feet"],
  ["us_ft", "US survey feet"],
];
export type Unit = keyof typeof UNITS;
export const lengthIn = (metres: number, unit: Unit) =>
  (metres * UNITS[unit].metre).toFixed(UNITS[unit].digits).replace("-", "−");

export const EYE = [1, 0, 0, 0, 0, 1, 0, 0, 0, 0, 1, 0, 0, 0, 0, 1];

/** A point (project frame) in the frame of T (16 numbers, row by row). */
export function into(t: number[], p: number[]): [number, number, number] {
  const row = (k: number) => t[4 * k]! * p[0]! + t[4 * k + 1]! * p[1]! + t[4 * k + 2]! * p[2]! + t[4 * k + 3]!;
  return [row(0), row(1), row(2)];
}

/** Height in the frame of T of a level plane at z of the project; frames are level but for what control says. */
export const heightIn = (t: number[], z: number) => t[10]! * z + t[11]!;

/** The inverse of a transform that turns, shifts and scales alike in all directions, row by row. */
export function inverse(t: number[]): number[] {
  const scale2 = t[0]! ** 2 + t[1]! ** 2 + t[2]! ** 2;
  const r = (i: number, j: number) => t[4 * i + j]! / scale2;
  const out = [0, 1, 2].flatMap((i) => [
    r(0, i),
    r(1, i),
    r(2, i),
    -(r(0, i) * t[3]! + r(1, i) * t[7]! + r(2, i) * t[11]!),
  ]);
  return [...out, 0, 0, 0, 1];
}
export function product(a: number[], b: number[]): number[] {
  return Array.from({ length: 16 }, (_, k) =>
    [0, 1, 2, 3].reduce((sum, j) => sum + a[4 * Math.floor(k / 4) + j]! * b[4 * j + (k % 4)]!, 0),
  );
}
