/** Changes: each a mutation that says what it makes stale. */
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
  if (makes[0] === "everything") await queries.invalidateQueries();
  else if (makes[0] !== "nothing") await staleNow(...(makes as Stale[]));
  return answer;
}

/** Read anew whatever is open of these; waits for it, so that what follows stands on what is so now. */
export const staleNow = (...stale: Stale[]) =>
  Promise.all(stale.map((one) => queries.invalidateQueries({ queryKey: typeof one === "string" ? [one] : [...one] })));
