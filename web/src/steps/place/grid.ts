/** Which site grid is being laid: another one, or one that is laid anew. */
import { create } from "zustand";
import type { Schemas } from "../../api/client";
import { useView } from "../../kit/view";

type Grid = Schemas["Frame"];
export const useGrid = create<{ open: boolean; old: Grid | null }>(() => ({ open: false, old: null }));

export const newGrid = () => useGrid.setState({ open: true, old: null });
export function editGrid(old: Grid) {
  if (old.part) useView.getState().set({ part: old.part });
  useGrid.setState({ open: true, old });
}
export const closeGrid = () => useGrid.setState({ open: false, old: null });

/** How a word looks that does something in a list. */
export const DO = "cursor-pointer text-action underline";
