import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, type Schemas } from "../../api/client";
import { mutate } from "../../api/mutate";
import * as reads from "../../api/reads";
import { Button } from "../../components/Button";
import { Dialog } from "../../components/Dialog";
import { Field, Input } from "../../components/Field";
import { when } from "../../components/words";
import { ScheduleEditor } from "../bench/settings/ScheduleEditor";

const FIRST = "FREQ=WEEKLY;BYDAY=MO,TU,WE,TH,FR;BYHOUR=9;BYMINUTE=0;BYSECOND=0";

type Connection = Schemas["ConnectionView"];

/** The places of a channel: a line that sends “at the channel’s next free place” takes the first of them. */
export function TimetableDialog({ connection, onClose }: { connection: Connection; onClose: () => void }) {
  const all = useQuery(reads.timetables());
  if (!all.data) return null;
  const known = all.data.find((one) => one.connection === connection.key);
  return <Form connection={connection} known={known} onClose={onClose} />;
}

function Form({
  connection,
  known,
  onClose,
}: {
  connection: Connection;
  known?: Schemas["TimetableView"];
  onClose: () => void;
}) {
  const [table, setTable] = useState({
    rule: known?.rule || FIRST,
    zone: known?.zone || Intl.DateTimeFormat().resolvedOptions().timeZone || "UTC",
    a_day: known?.a_day ?? null,
    apart: known?.apart ?? null,
  });
  const [wrong, setWrong] = useState("");
  const set = (part: Partial<typeof table>) => setTable({ ...table, ...part });
  const path = { params: { path: { key: connection.key } } };

  const act = (call: () => Promise<unknown>) => async () => {
    try {
      await call();
      onClose();
    } catch (error) {
      setWrong((error as Error).message);
    }
  };

  return (
    <Dialog
      open
      onClose={onClose}
      title={`Timetable of ${connection.name}`}
      about="The places pieces may have here. A line whose piece goes out “at the channel’s next free place” takes the first that is free."
    >
      <div className="space-y-4">
        <ScheduleEditor rule={table.rule} zone={table.zone} quiet="" onChange={(rule) => set({ rule })} />
        <div className="grid gap-3 sm:grid-cols-3">
          <Field label="Time zone">
            <Input value={table.zone} onChange={(e) => set({ zone: e.target.value })} />
          </Field>
          <Field label="At most a day" help="Pieces; empty: no limit.">
            <Input
              type="number"
              min={1}
              value={table.a_day ?? ""}
              onChange={(e) => set({ a_day: e.target.value ? Number(e.target.value) : null })}
            />
          </Field>
          <Field label="At least apart" help="Minutes; may be empty.">
            <Input
              type="number"
              min={0}
              value={table.apart === null ? "" : table.apart / 60}
              onChange={(e) => set({ apart: e.target.value ? Number(e.target.value) * 60 : null })}
            />
          </Field>
        </div>
        {known && known.next.length > 0 && (
          <p className="text-xs text-soft">Next: {known.next.slice(0, 4).map(when).join(" · ")}</p>
        )}
        {wrong && (
          <p role="alert" className="text-sm text-brick">
            {wrong}
          </p>
        )}
        <div className="flex gap-2">
          <Button
            look="main"
            onClick={act(() =>
              mutate(api.PUT("/api/connections/{key}/timetable", { ...path, body: table }), "timetables", "calendar"),
            )}
          >
            Keep
          </Button>
          {known && (
            <Button
              look="quiet"
              onClick={act(() =>
                mutate(api.DELETE("/api/connections/{key}/timetable", path), "timetables", "calendar"),
              )}
            >
              Do without
            </Button>
          )}
        </div>
      </div>
    </Dialog>
  );
}
