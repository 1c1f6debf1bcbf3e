import { useQuery } from "@tanstack/react-query";
import { useNavigate } from "react-router";
import { api, queries } from "../../api/client";
import { mutate } from "../../api/mutate";
import * as reads from "../../api/reads";
import type { Session } from "../../app/session";
import { Button } from "../../components/Button";
import { Loading } from "../../components/Quiet";
import { sayError } from "../../components/Toast";

/** An invitation opened by somebody who is signed in already: whose it is, and how to go on. */
export function Invited({ session }: { session: Session }) {
  const token = new URLSearchParams(window.location.search).get("invited") ?? "";
  const invited = useQuery(reads.invited(token));
  const go = useNavigate();
  if (invited.isPending) return <Loading what="Looking at the invitation …" />;

  async function signOut() {
    try {
      await mutate(api.DELETE("/api/session"), "nothing");
      queries.clear();
      window.location.reload();
    } catch (error) {
      sayError(error);
    }
  }

  return (
    <main className="mx-auto grid min-h-screen max-w-md content-center gap-5 px-8">
      <h1 className="font-serif text-3xl font-semibold tracking-tight">
        {invited.data ? `This invitation is for ${invited.data.name}.` : "This invitation cannot be used."}
      </h1>
      <p className="font-serif text-lg">
        {invited.data
          ? `You are signed in as ${session.name}. Sign out to choose a password for ${invited.data.email}.`
          : (invited.error as Error | null)?.message}
      </p>
      <p className="flex gap-2">
        {invited.data && (
          <Button look="main" onClick={signOut}>
            Sign out and go on
          </Button>
        )}
        <Button
          look={invited.data ? "quiet" : "main"}
          autoFocus={!invited.data}
          onClick={() => go("/", { replace: true })}
        >
          Stay signed in
        </Button>
      </p>
    </main>
  );
}
