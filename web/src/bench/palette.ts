/** Twelve hues for stations, apart for colour-blind eyes too, on ink and on paper. */
export const HUES = [
  "#4fa3d1",
  "#e0a030",
  "#9a86d8",
  "#6fb65a",
  "#dd735b",
  "#3dbba8",
  "#cf74a6",
  "#b0aa38",
  "#6488e0",
  "#cf9464",
  "#86c8e4",
  "#b9bfcb",
];
export const STATUS_ON_INK = { taut: "#7fd6cf", slack: "#f0a868", parted: "#f08fb4", loose: "#9aa2b1" } as const;
export const STATUS_ON_PAPER = { taut: "#0b6b68", slack: "#a34e12", parted: "#8a1846", loose: "#6c7280" } as const;
export const GROUND = { ink: "#12161d", mid: "#5b6270", paper: "#f5f1e8" } as const;
export type Ground = keyof typeof GROUND;

/** The colour of a number; -1: of what belongs to nothing. */
export const hueOf = (hue: number) => (hue < 0 ? "#8a8f98" : HUES[hue % 12]!);
