import { useQuery } from "@tanstack/react-query";
import { api, type Bench } from "../../../api/client";
import { mutate } from "../../../api/mutate";
import * as reads from "../../../api/reads";
import { may, useSession } from "../../../app/session";
import { Button } from "../../../components/Button";
import { Dialog } from "../../../components/Dialog";
import { Choice, Field, Input } from "../../../components/Field";
import { say, sayError } from "../../../components/Toast";
import { money } from "../../../components/words";
import type { usePage } from "../model/page";

type Limits = {
  at_once?: number | null;
  when_full?: string;
  day_runs?: number | null;
  steps?: number;
  hours?: number;
  run_money?: number | null;
  day_money?: number | null;
  month_money?: number | null;
};

const FULL: Record<string, string> = {
  queue: "waits its turn",
  skip: "is passed over",
  replace: "takes the oldest one’s place",
};

/** How much the workflow may do and spend; reaching a limit pauses and asks, it never stops silently. */
export function LimitsDialog({
  bench,
  page,
  onClose,
}: {
  bench: Bench;
  page: ReturnType<typeof usePage>;
  onClose: () => void;
}) {
  const owner = may(useSession().data, "owner");
  const zones = useQuery(reads.catalogue()).data?.zones ?? [];
  const limits = (page.doc.limits ?? {}) as Limits;
  const set = (part: Limits) =>
    page.edit((doc) => ({
      ...doc,
      limits: Object.fromEntries(
        Object.entries({ ...((doc.limits ?? {}) as Limits), ...part }).filter(([, v]) => v !== null && v !== undefined),
      ),
    }));
  const number = (name: keyof Limits, label: string, step = 1) => (
    <Field label={label}>
      <Input
        type="number"
        min={0}
        step={step}
        placeholder="no limit"
        value={(limits[name] as number | undefined) ?? ""}
        onChange={(e) => set({ [name]: e.target.value === "" ? null : Number(e.target.value) })}
      />
    </Field>
  );
  return (
    <Dialog
      open
      onClose={onClose}
      title="Limits and time zone"
      about="A run that reaches one is paused and waits under Today for your word. They count from the next time the page is made live."
    >
      <div className="space-y-5">
        <div className="grid grid-cols-2 gap-3">
          {number("at_once", "Runs at a time")}
          <Field label="The next one">
            <Choice value={limits.when_full ?? "queue"} onChange={(e) => set({ when_full: e.target.value })}>
              {Object.entries(FULL).map(([key, words]) => (
                <option key={key} value={key}>
                  {words}
                </option>
              ))}
            </Choice>
          </Field>
        </div>
        <div className="grid grid-cols-2 gap-3">
          <Field
            label="Runs a day"
            help="Then the next ones wait, and you are asked. Starts by rows, calls and other workflows begin with 300."
          >
            <Input
              type="number"
              min={1}
              placeholder="300, or no limit for other starts"
              value={limits.day_runs ?? ""}
              onChange={(e) => set({ day_runs: e.target.value === "" ? null : Number(e.target.value) })}
            />
          </Field>
        </div>
        <div className="grid grid-cols-3 gap-3">
          {number("run_money", "€ a run", 0.01)}
          {number("day_money", "€ a day", 0.01)}
          {number("month_money", "€ a month", 0.01)}
        </div>
        <div className="grid grid-cols-2 gap-3">
          {number("steps", "Steps in a run")}
          {number("hours", "Hours a run may take")}
        </div>
        <Field
          label="Times on this page are those of"
          help="For waits and for the date and time of a run. Empty: the time zone of its start, else the server’s."
        >
          <Choice
            value={String(page.doc.zone ?? "")}
            onChange={(e) => page.edit((doc) => ({ ...doc, zone: e.target.value || undefined }))}
          >
            <option value="">as its start</option>
            {zones.map((zone) => (
              <option key={zone}>{zone}</option>
            ))}
          </Choice>
        </Field>
        {bench.brand_key && <OfBrand brand={bench.brand_key} owner={owner} />}
      </div>
      <Button className="mt-5" onClick={onClose}>
        Done
      </Button>
    </Dialog>
  );
}

function OfBrand({ brand, owner }: { brand: string; owner: boolean }) {
  const path = { params: { path: { key: brand } } };
  const found = useQuery(reads.brandLimits(brand));
  if (!found.data) return null;
  const b = found.data;
  async function set(day: number | null, month: number | null) {
    try {
      await mutate(api.PUT("/api/brands/{key}/limits", { ...path, body: { day_money: day, month_money: month } }), [
        "brand",
        brand,
      ]);
      say(`Limits of ${b.name} are set.`);
    } catch (error) {
      sayError(error);
    }
  }
  const read = (text: string) => (text === "" ? null : Number(text));
  return (
    <div className="border-t border-line pt-3">
      <p className="mb-2 text-sm">
        {b.name}, all its workflows together:{" "}
        <span className="text-soft">
          {money(b.spent_day)} today, {money(b.spent_month)} this month
        </span>
      </p>
      <fieldset disabled={!owner} className="grid grid-cols-2 gap-3">
        <Field label="€ a day">
          <Input
            type="number"
            min={0}
            step={0.01}
            placeholder="no limit"
            key={`d${b.day_money}`}
            defaultValue={b.day_money ?? ""}
            onBlur={(e) => read(e.target.value) !== b.day_money && set(read(e.target.value), b.month_money)}
          />
        </Field>
        <Field label="€ a month">
          <Input
            type="number"
            min={0}
            step={0.01}
            placeholder="no limit"
            key={`m${b.month_money}`}
            defaultValue={b.month_money ?? ""}
            onBlur={(e) => read(e.target.value) !== b.month_money && set(b.day_money, read(e.target.value))}
          />
        </Field>
      </fieldset>
      {!owner && <p className="mt-1 text-xs text-soft">An owner can change these.</p>}
    </div>
  );
}
