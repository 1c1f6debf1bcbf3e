import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import type { Result, Schemas } from "../../api/client";
import * as reads from "../../api/reads";
import { Beside } from "../../components/Beside";
import { Button } from "../../components/Button";
import { Choice } from "../../components/Field";
import { Failed, Loading } from "../../components/Quiet";
import { RUN_WORDS, when } from "../../components/words";

type Run = Schemas["RunView"];

/** A second run to set beside the first. */
export function useOther(id: number | null): { run: Run | undefined; missing: boolean } {
  const found = useQuery({ ...reads.run(id!), enabled: id !== null });
  return { run: id !== null ? found.data : undefined, missing: id !== null && found.isError };
}

/** Which run of the same workflow stands beside this one. */
export function Another({
  run,
  chosen,
  missing,
  onChoose,
}: {
  run: Schemas["RunSummary"];
  chosen: number | null;
  missing: boolean;
  onChoose: (id: number | null) => void;
}) {
  const [open, setOpen] = useState(chosen !== null);
  const list = useQuery({ ...reads.runsOf(run.workflow, 60), enabled: open });
  if (!open)
    return (
      <Button look="quiet" onClick={() => setOpen(true)}>
        Beside another run
      </Button>
    );
  const others = list.data?.runs.filter((one) => one.id !== run.id) ?? [];
  return (
    <span className="flex items-center gap-1">
      <Choice
        autoFocus={chosen === null}
        aria-label="The run beside this one"
        className="!w-64"
        value={chosen ?? ""}
        onChange={(event) => onChoose(Number(event.target.value) || null)}
      >
        <option value="">
          {list.isPending ? "Fetching the runs …" : others.length ? "beside which run?" : "it has no other run"}
        </option>
        {chosen && !others.some((one) => one.id === chosen) && <option value={chosen}>run {chosen}</option>}
        {others.map((one) => (
          <option key={one.id} value={one.id}>
            {when(one.started_at)} · {one.title.slice(0, 50)} · {RUN_WORDS[one.state] ?? one.state}
          </option>
        ))}
      </Choice>
      {missing && (
        <span role="alert" className="text-xs text-brick">
          Run {chosen} is not here.
        </span>
      )}
      <Button
        look="quiet"
        onClick={() => {
          onChoose(null);
          setOpen(false);
        }}
      >
        Alone
      </Button>
    </span>
  );
}

/** What a line gave in both runs, beside each other. */
export function OtherResult({ run, step, first, name }: { run: Run; step: string; first: Result; name: string }) {
  const id = run.run.id;
  const there = run.lines.some((line) => line.id === step);
  const result = useQuery({
    ...reads.runStep(id, step, "", String(run.cells.find((c) => c.step === step)?.at)),
    enabled: there,
  });
  if (!there) return <p className="text-sm text-soft">This line is not on the page of run {id}.</p>;
  if (result.isPending) return <Loading what="Fetching the other result …" />;
  if (result.isError) return <Failed error={result.error} again={() => result.refetch()} />;
  return <Beside before={{ name, result: first }} after={{ name: `Run ${id}`, result: result.data }} />;
}
