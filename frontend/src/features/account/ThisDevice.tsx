import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api } from "../../api/client";
import { mutate } from "../../api/mutate";
import { lineOf, takesPushes } from "../../api/push";
import * as reads from "../../api/reads";
import { Button } from "../../components/Button";
import { sayError } from "../../components/Toast";
import { when } from "../../components/words";

/** The devices on which one is told of what waits, as a push. */
export function ThisDevice() {
  const push = useQuery(reads.push());
  const [busy, setBusy] = useState(false);
  if (!push.data) return null;
  const { key, lines } = push.data;

  async function add() {
    setBusy(true);
    try {
      await mutate(api.POST("/api/push", { body: await lineOf(key) }), "push");
    } catch (error) {
      sayError(error);
    }
    setBusy(false);
  }
  async function drop(id: number) {
    try {
      await mutate(api.DELETE("/api/push/{id}", { params: { path: { id } } }), "push");
    } catch (error) {
      sayError(error);
    }
  }

  return (
    <section className="mb-8 border-b border-line pb-6" aria-labelledby="pushes">
      <h3 id="pushes" className="mb-2 font-serif text-lg">
        Pushes
      </h3>
      <p className="text-sm text-soft">
        {takesPushes()
          ? "A device you are signed in on can show what waits for you, also while no page is open."
          : "This browser takes no pushes, or this address is not encrypted (https)."}
      </p>
      <ul className="mt-2 divide-y divide-line">
        {lines.map((line) => (
          <li key={line.id} className="flex items-baseline gap-3 py-2 text-sm">
            <span className="flex-1">
              {line.name} <span className="text-xs text-soft">since {when(line.made_at)}</span>
            </span>
            <Button look="quiet" onClick={() => drop(line.id)}>
              Stop
            </Button>
          </li>
        ))}
      </ul>
      {takesPushes() && (
        <Button className="mt-2" disabled={busy} onClick={add}>
          Tell me on this device
        </Button>
      )}
    </section>
  );
}
