/** Changes: each a mutation that says what it makes stale. */
import { type ApiCall, ok, queries } from "./client";
import type { Stale } from "./reads";

/** Have the server change something, and read anew what that makes stale; gives its answer, or throws an `ApiError`. */
export async function mutate<T>(call: ApiCall<T>, ...stale: Stale[]): Promise<T> {
  const mutation = queries.getMutationCache().build<T, Error, void, unknown>(queries, {
    mutationFn: () => ok(call),
    // A change that cannot be sent fails at once, in words; it is not kept back until there is a network.
    networkMode: "always",
    meta: { stale },
  });
  const answer = await mutation.execute();
  await staleNow(...stale);
  return answer;
}

/** Read anew whatever is open of these; waits for it, so that what follows stands on what is so now. */
export const staleNow = (...stale: Stale[]) =>
  Promise.all(stale.map((one) => queries.invalidateQueries({ queryKey: typeof one === "string" ? [one] : [...one] })));

/** Read anew whatever is open: after something that may change anything. */
export const allStale = () => queries.invalidateQueries();
