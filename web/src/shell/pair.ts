/** The two stations that are compared: of the chosen link, else the two that are selected. */
import { useMemo } from "react";
import { useNetwork } from "../api/queries";
import { useView } from "../kit/view";

export function usePair(id: string): [string, string] | null {
  const { link, stations } = useView();
  const chosen = useNetwork(id).data?.links.find((k) => k.id === link);
  const [a, b] = chosen ? [chosen.a, chosen.b] : stations.length === 2 ? stations : [];
  return useMemo(() => (a && b ? [a, b] : null), [a, b]);
}
