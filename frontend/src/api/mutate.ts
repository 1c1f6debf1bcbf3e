/** Changes: each a mutation that says what it makes stale. */
import type { QueryFilters } from "@tanstack/react-query";
import { type ApiCall, ok, queries } from "./client";
import type { Stale } from "./reads";

/** What a change makes stale: named, or `nothing` where the screen learns it by a live event or from the answer. */
type Makes = [Stale, ...Stale[]] | ["nothing"] | ["everything"];

/** Have the server change something, and read anew what that makes stale; gives its answer, or throws an `ApiError`. */
export async function mutate<T>(call: ApiCall<T>, ...makes: Makes): Promise<T> {
  const mutation = queries.getMutationCache().build<T, Error, void, unknown>(queries, {
    mutationFn: () => ok(call),
    // A change that cannot be sent fails at once, in words; it is not kept back until there is a network.
    networkMode: "always",
    meta: { makes },
  });
  const answer = await mutation.execute();
  if (makes[0] === "everything") await anew();
  else if (makes[0] !== "nothing") await staleNow(...(makes as Stale[]));
  return answer;
}

/** Read anew whatever is open of these; waits for it, so that what follows stands on what is so now. */
export const staleNow = (...stale: Stale[]) =>
  Promise.all(stale.map((one) => anew({ queryKey: typeof one === "string" ? [one] : [...one] })));

/** Read anew whatever is open of what fits. A first reading that is under way is not begun anew by the library, and may have been
 * taken before the change: it is read once more when it is there. */
export async function anew(fits: QueryFilters = {}) {
  const first = queries.getQueryCache().findAll({
    ...fits,
    fetchStatus: "fetching",
    predicate: (query) => query.state.data === undefined,
  });
  await queries.invalidateQueries(fits);
  if (first.length) await queries.invalidateQueries({ ...fits, predicate: (query) => first.includes(query) });
}
