import { api, type Schemas } from "../api/client";
import { mutate } from "../api/mutate";
import { Button } from "./Button";
import { sayError } from "./Toast";
import { clock, count, when } from "./words";

type Props = { trouble: Schemas["TroubleView"]; maker: boolean };

/** An outside that does not answer: what is known of it, and one press to try it now. */
export function Trouble({ trouble: t, maker }: Props) {
  async function tryNow() {
    try {
      await mutate(api.POST("/api/outsides/try", { body: { key: t.key } }), "everything");
    } catch (error) {
      sayError(error);
    }
  }
  return (
    <div className="flex flex-wrap items-baseline gap-x-3 gap-y-1 text-sm text-brick">
      <span className="[overflow-wrap:anywhere]">
        ✕ <span className="inline-block first-letter:uppercase">{t.name}</span> has not answered since {when(t.since)}:{" "}
        {t.says}{" "}
        {t.waiting
          ? `${count(t.waiting, "step or piece", "steps or pieces")} ${t.waiting === 1 ? "waits" : "wait"}; it is tried again at ${clock(t.next_at)}.`
          : "It is tried again as soon as something needs it."}
      </span>
      {maker && t.waiting > 0 && (
        <Button look="quiet" onClick={tryNow}>
          Try now
        </Button>
      )}
    </div>
  );
}
