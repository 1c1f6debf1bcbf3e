/** What is wrong with a line and can be mended with one press, each with its press. */
import { api, type Bench } from "../../../api/client";
import { mutate } from "../../../api/mutate";
import { Button } from "../../../components/Button";
import { sayError } from "../../../components/Toast";
import type { Commands } from "../model/writing";

type Problem = Bench["lines"][number]["problems"][number];

export function Mending({
  workflow,
  problems,
  settle,
  sure,
  make,
}: {
  workflow: number;
  problems: Problem[];
  settle: (settings: Record<string, unknown>) => void;
  sure: (guess: string) => void;
  make: Commands["make"];
}) {
  async function widen(key: string, names: string[]) {
    try {
      const sent = api.POST("/api/sheets/{key}/columns", { params: { path: { key } }, body: { names } });
      await mutate(sent, ["bench", workflow], "sheet", "sheets");
    } catch (error) {
      sayError(error);
    }
  }

  function mend(p: Problem) {
    if (p.guess) sure(p.guess);
    else if (p.widens) widen(p.widens, p.columns ?? []);
    else if (p.moving?.length) make({ what: "put_behind", line: p.after ?? "", moving: p.moving });
    else settle(p.settings as Record<string, unknown>);
  }

  return problems
    .filter((p) => p.mend && (p.settings || p.moving?.length || p.widens || p.guess))
    .map((p) => (
      <p key={p.message} className="mb-3 flex flex-wrap items-baseline gap-2 bg-ochrewash px-2 py-1 text-sm text-ochre">
        {p.message}
        <Button onClick={() => mend(p)}>{p.mend}</Button>
      </p>
    ));
}
