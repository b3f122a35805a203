/** The query cache: server state lives only here. */
import { QueryCache, QueryClient } from "@tanstack/react-query";
import { create } from "zustand";
import { Refusal } from "./client";

/** The project of which the server said that it is not there: whichever list asked first, the page says it, once. */
export const useGone = create<{ id: string | null }>(() => ({ id: null }));
const refused = (e: unknown) => e instanceof Refusal && e.status >= 400 && e.status < 500; // asked again it says the same

/** A reading that is not here yet is not begun anew by the library when what it reads has changed: here it is done once more. */
export class Cache extends QueryClient {
  private readonly once = new Set<string>();
  override invalidateQueries(...asked: Parameters<QueryClient["invalidateQueries"]>): Promise<void> {
    for (const { queryHash: own, queryKey, state, promise } of this.getQueryCache().findAll({
      ...asked[0],
      fetchStatus: "fetching",
    })) {
      if (!promise || state.data !== undefined || this.once.has(own)) continue;
      this.once.add(own);
      const here = () => {
        this.once.delete(own);
        return super.invalidateQueries({ queryKey, exact: true });
      };
      void promise.then(here, () => this.once.delete(own));
    }
    return super.invalidateQueries(...asked);
  }
}
export const cache = new Cache({
  queryCache: new QueryCache({
    onError: (e, { queryKey }) => {
      if (e instanceof Refusal && e.status === 404 && e.subject === queryKey[0]) useGone.setState({ id: e.subject });
    },
  }),
  defaultOptions: {
    queries: { staleTime: 60_000, retry: (n, e) => n < 1 && !refused(e), refetchOnWindowFocus: false },
  },
});
