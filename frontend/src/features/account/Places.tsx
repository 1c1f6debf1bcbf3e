import { useQuery } from "@tanstack/react-query";
import { api, queries } from "../../api/client";
import { mutate } from "../../api/mutate";
import * as reads from "../../api/reads";
import { Button } from "../../components/Button";
import { sayError } from "../../components/Toast";
import { ago } from "../../components/words";

/** Where one is signed in; each place can be signed out, or all. */
export function Places() {
  const places = useQuery(reads.places());
  async function leave(mark: string) {
    try {
      await mutate(api.DELETE("/api/session/places/{mark}", { params: { path: { mark } } }), "places");
    } catch (error) {
      sayError(error);
    }
  }
  async function everywhere() {
    try {
      await mutate(api.DELETE("/api/session/everywhere"), "nothing");
      queries.clear();
      window.location.assign("/");
    } catch (error) {
      sayError(error);
    }
  }
  return (
    <section className="mt-8 border-t border-line pt-4" aria-labelledby="places">
      <h3 id="places" className="font-serif text-lg">
        Where I am signed in
      </h3>
      <ul>
        {places.data?.map((one) => (
          <li key={one.mark} className="flex items-baseline gap-3 border-b border-line py-2 text-sm">
            <div className="min-w-0 flex-1">
              <p>
                {one.here ? "here" : one.seen_at ? `seen ${ago(one.seen_at)}` : "not seen since the last upgrade"}
                {one.place && <span className="text-soft">, from {one.place}</span>}
              </p>
              {one.agent && (
                <p className="truncate text-xs text-soft" title={one.agent}>
                  {one.agent}
                </p>
              )}
            </div>
            {!one.here && (
              <Button look="quiet" onClick={() => leave(one.mark)}>
                Sign out
              </Button>
            )}
          </li>
        ))}
      </ul>
      <Button className="mt-3" onClick={everywhere}>
        Sign out everywhere
      </Button>
    </section>
  );
}
