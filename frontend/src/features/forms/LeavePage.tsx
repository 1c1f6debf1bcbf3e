import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useParams } from "react-router";
import { api } from "../../api/client";
import { mutate } from "../../api/mutate";
import * as reads from "../../api/reads";
import { Button } from "../../components/Button";
import { Failed, Loading } from "../../components/Quiet";

/** Where a reader leaves a mailing: opening the page changes nothing, pressing does. */
export function LeavePage() {
  const token = useParams().token ?? "";
  const found = useQuery(reads.leaving(token));
  const [busy, setBusy] = useState(false);
  const [wrong, setWrong] = useState("");
  if (found.isPending) return <Loading what="Opening …" />;
  if (found.isError) return <Failed error={found.error} />;
  const { mailing, address, left } = found.data;

  async function set(leave: boolean) {
    setBusy(true);
    setWrong("");
    try {
      await mutate(api.POST("/api/leave/{token}", { params: { path: { token } }, body: { leave } }), [
        "leaving",
        token,
      ]);
    } catch (error) {
      setWrong((error as Error).message);
    } finally {
      setBusy(false);
    }
  }

  return (
    <main className="mx-auto max-w-xl px-6 py-16">
      <h1 className="font-serif text-3xl font-semibold tracking-tight">
        {left ? "You have left" : `Leave “${mailing}”?`}
      </h1>
      <p role="status" className="mt-3 leading-relaxed [overflow-wrap:anywhere]">
        {left
          ? `Nothing that goes to a list from here is sent to ${address} any more.`
          : `Letters of this list go to ${address}. If you leave, nothing that goes to a list from here is sent to you any more.`}
      </p>
      {wrong && (
        <p role="alert" className="mt-3 text-sm text-brick">
          {wrong}
        </p>
      )}
      <p className="mt-6">
        {left ? (
          <Button disabled={busy} onClick={() => set(false)}>
            It was a mistake: stay on the list
          </Button>
        ) : (
          <Button look="main" disabled={busy} onClick={() => set(true)}>
            Leave the list
          </Button>
        )}
      </p>
    </main>
  );
}
