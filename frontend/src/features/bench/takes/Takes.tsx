import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, type Schemas } from "../../../api/client";
import { mutate } from "../../../api/mutate";
import * as reads from "../../../api/reads";
import { Button } from "../../../components/Button";
import { Dialog } from "../../../components/Dialog";
import { Field, Input } from "../../../components/Field";
import { reached, useKeys } from "../../../components/keys";
import { Failed, Loading } from "../../../components/Quiet";
import { State } from "../../../components/State";
import { sayError } from "../../../components/Toast";
import { characters, money } from "../../../components/words";
import type { LineDoc } from "../model/document";
import { controlOf } from "../settings/controls";
import { nameOf, settingsOf, withControl } from "../settings/controls/around";
import type { ControlProps } from "../settings/controls/types";

/** A take: its name, and what it lays over the draft's own settings. */
export type TakeDoc = { name: string; [setting: string]: unknown };

export const MOST_TAKES = 4;
/** The takes of a line whose kind has such. */
export function takesOf(line: LineDoc, kind?: Schemas["KindView"]): TakeDoc[] {
  const setting = withControl(kind, "takes");
  return ((setting && line.settings[setting]) ?? []) as TakeDoc[];
}
/** Which take a line of the outline is: 0 for the draft itself, then from 1. */
export const takeAt = (step: string) => (step.includes("~") ? Number(step.split("~")[1]) - 1 : 0);

type FormProps = Omit<ControlProps, "label" | "help" | "wrong" | "value" | "set" | "property"> & {
  take: number;
  onChange: (settings: Record<string, unknown>) => void;
  onKeep: () => void;
  onRemove: () => void;
};

/** What this take does otherwise; what is left empty is as in the draft itself. */
export function TakeForm({ take: number, onChange, onKeep, onRemove, ...around }: FormProps) {
  const { doc, kind, catalogue, problems, disabled } = around;
  const at = number - 1;
  const known = Object.fromEntries(settingsOf(kind));
  const setting = withControl(kind, "takes");
  const takes = takesOf(doc, kind);
  const take = takes[at];
  if (!take || !setting) return null;
  const set = (part: Partial<TakeDoc>) =>
    onChange({ ...doc.settings, [setting]: takes.map((one, i) => (i === at ? { ...one, ...part } : one)) });
  const shared = Object.entries(known).some(([name, p]) => p.when === setting && doc.settings[name]);
  return (
    <fieldset disabled={disabled} className="space-y-4">
      <p className="text-xs text-soft">
        Another way to write “{nameOf(doc, catalogue)}”.{" "}
        {shared
          ? "Live runs are shared between the draft and its takes, by lot."
          : "It is made in proofs only; runs use the draft itself, unless it shares them."}
      </p>
      <Field label="What it tries">
        <Input maxLength={40} value={take.name} onChange={(e) => e.target.value && set({ name: e.target.value })} />
      </Field>
      {(known[setting]?.needs ?? "").split(" ").map((name) => {
        const property = known[name];
        if (!property) return null;
        const { Show } = controlOf(property.control);
        return (
          <Show
            key={name}
            {...around}
            label={property.title ?? name}
            help="Empty: as in the draft."
            problems={problems.filter(
              (p) => p.place[0] === setting && p.place[1] === String(at) && p.place[2] === name,
            )}
            property={{ ...property, labels: { "": "as in the draft" }, default: null }}
            value={take[name]}
            set={(value) => set({ [name]: value })}
          />
        );
      })}
      <div className="flex gap-2 border-t border-line pt-3">
        <Button onClick={onKeep}>Keep this one</Button>
        <Button look="quiet" onClick={onRemove}>
          Remove this take
        </Button>
      </div>
    </fieldset>
  );
}

type Drafts = Schemas["SampleDrafts"];

/** The drafts of all takes for one sample, side by side; blind, they stand in an order of their own without names. */
function shuffled(drafts: Drafts, blind: boolean) {
  if (!blind) return drafts.drafts;
  const rank = (take: string) =>
    [...`${drafts.sample}${drafts.place}${take}`].reduce((h, c) => (h * 31 + c.charCodeAt(0)) % 997, 7);
  return [...drafts.drafts].sort((a, b) => rank(a.take) - rank(b.take));
}

/** Takes compared: sample after sample, a person says which is best; below, what it comes to. */
export function CompareTakes({
  workflow,
  step,
  sample,
  onClose,
}: {
  workflow: number;
  step: string;
  sample: number | null;
  onClose: () => void;
}) {
  const path = { id: workflow, step };
  const takes = useQuery(reads.takes(workflow, step));
  const [at, setAt] = useState<number | null>(null);
  const [blind, setBlind] = useState(true);
  const samples = takes.data?.samples ?? [];
  const here =
    at ??
    Math.max(
      0,
      samples.findIndex((s) => s.sample === sample),
    );
  const now = samples[Math.min(here, samples.length - 1)];
  const shown = now ? shuffled(now, blind) : [];
  const names = new Map(takes.data?.tallies.map((t) => [t.take, t.name]));
  const judged = samples.filter((s) => s.judged).length;

  async function choose(take: string | undefined) {
    if (!take || !now) return;
    try {
      await mutate(
        api.POST("/api/workflows/{id}/takes/{step}/choices", {
          params: { path },
          body: { sample: now.sample, place: now.place ?? "", take },
        }),
        ["takes", workflow, step],
      );
      const next = samples.findIndex((s, i) => i !== here && !s.judged);
      if (next >= 0) setAt(next);
      else setBlind(false);
    } catch (error) {
      sayError(error);
    }
  }

  return (
    <Dialog open wide onClose={onClose} title="Takes side by side">
      {takes.isPending ? (
        <Loading what="Fetching the drafts …" />
      ) : takes.isError ? (
        <Failed error={takes.error} again={() => takes.refetch()} />
      ) : !now ? (
        <p className="text-sm text-soft">Add a sample first.</p>
      ) : (
        <>
          <Keys
            choose={(n) => choose(shown[n]?.take)}
            move={(by) => setAt(Math.min(samples.length - 1, Math.max(0, here + by)))}
          />
          <div className="flex flex-wrap items-baseline gap-3 border-b border-rule pb-2 text-sm">
            <span className="font-serif text-lg">{now.label}</span>
            <span className="text-xs text-soft">
              {here + 1} of {samples.length}, {judged} judged
            </span>
            <span className="ml-auto" />
            <Button look="quiet" disabled={here === 0} onClick={() => setAt(here - 1)} hint="←">
              Before
            </Button>
            <Button look="quiet" disabled={here >= samples.length - 1} onClick={() => setAt(here + 1)} hint="→">
              After
            </Button>
            <Button aria-pressed={blind} onClick={() => setBlind(!blind)}>
              {blind ? "Show which is which" : "Judge blind"}
            </Button>
          </div>
          <div className="mt-4 grid gap-5" style={{ gridTemplateColumns: `repeat(${shown.length}, minmax(0, 1fr))` }}>
            {shown.map((draft, i) => (
              <section
                key={draft.take}
                aria-label={`Draft ${i + 1}`}
                className="flex flex-col border-t-2 border-line pt-2"
              >
                <h3 className="smallcaps text-soft">{blind ? `Draft ${i + 1}` : names.get(draft.take)}</h3>
                <div
                  className="piece mt-1 max-h-[38vh] flex-1 overflow-y-auto text-reading leading-snug whitespace-pre-wrap"
                  {...reached("The take")}
                >
                  {draft.text || (
                    <span className="text-sm text-ochre">
                      {draft.state === "failed" ? draft.message : "Not run yet, or out of date. Run the row first."}
                    </span>
                  )}
                </div>
                <p className="mt-2 text-xs text-soft">
                  {draft.text && `${characters(draft.text)} characters`}
                  {!blind && draft.text && ` · ${money(draft.cost)}`}
                </p>
                {draft.findings
                  .filter((f) => !f.kept)
                  .map((f) => (
                    <p key={f.says} className="text-xs text-brick">
                      ✕ {f.says}
                    </p>
                  ))}
                <div className="mt-2">
                  <Button
                    look={draft.chosen && !blind ? "main" : "plain"}
                    onClick={() => choose(draft.take)}
                    hint={String(i + 1)}
                  >
                    {draft.chosen && !blind ? "Liked best" : "This one"}
                  </Button>
                </div>
              </section>
            ))}
          </div>
          <Tallies tallies={takes.data.tallies} hidden={blind && judged < samples.length} />
        </>
      )}
    </Dialog>
  );
}

/** Keys of the comparison; the dialog is open, so they are heard on it. */
function Keys({ choose, move }: { choose: (n: number) => void; move: (by: number) => void }) {
  useKeys(
    {
      "1": () => choose(0),
      "2": () => choose(1),
      "3": () => choose(2),
      "4": () => choose(3),
      ArrowLeft: () => move(-1),
      ArrowRight: () => move(1),
    },
    true,
  );
  return null;
}

const HEADS = ["Take", "Rules kept", "Money a draft", "Characters", "Liked best", "Would win, with 95 % certainty"];

const percent = (share: number) => `${Math.round(share * 100)}\u00a0%`;

/** How many of the people a letter went to did something, with the bounds of that share. */
function Of({ share }: { share: Schemas["ShareView"] }) {
  return (
    <>
      {share.did} of {share.of}
      <Between low={share.low} high={share.high} />
    </>
  );
}

function Tallies({ tallies, hidden }: { tallies: Schemas["TallyView"][]; hidden: boolean }) {
  if (hidden) return <p className="mt-6 text-sm text-soft">What it comes to is shown once every sample was judged.</p>;
  const most = Math.max(...tallies.map((t) => t.preferred));
  const live = tallies.some((t) => t.live);
  const answered = tallies.some((t) => t.live?.answered);
  const pressed = tallies.some((t) => t.live?.pressed?.did);
  return (
    <table className="mt-6 w-full border-t border-rule text-sm tabular-nums">
      <thead>
        <tr className="text-left text-xs text-soft">
          {[
            ...HEADS,
            ...(live ? ["In live runs, passed unedited"] : []),
            ...(answered ? ["Answered"] : []),
            ...(pressed ? ["Pressed a link"] : []),
          ].map((h) => (
            <th key={h} className="py-1 pr-3 align-bottom font-normal">
              {h}
            </th>
          ))}
        </tr>
      </thead>
      <tbody>
        {tallies.map((t) => (
          <tr key={t.take} className="border-t border-line">
            <th className="py-1 pr-3 text-left font-serif font-normal">{t.name}</th>
            <td className={`pr-3 ${t.kept < t.made ? "text-brick" : ""}`}>
              {t.kept} of {t.made}
            </td>
            <td className="pr-3">{money(t.cost)}</td>
            <td className="pr-3">{t.characters}</td>
            <td className="pr-3">
              {t.preferred} of {t.compared}{" "}
              {t.preferred > 0 && t.preferred === most && (
                <State tone="leaf" mark="●">
                  most
                </State>
              )}
            </td>
            <td className="pr-3">
              {t.compared ? <Between low={t.low} high={t.high} /> : <span className="text-soft">not judged yet</span>}
            </td>
            {live && (
              <td className="pr-3">
                {t.live?.decided ? (
                  <>
                    {t.live.unedited} of {t.live.decided}
                    <Between low={t.live.low} high={t.live.high} />
                  </>
                ) : (
                  <span className="text-soft">none decided yet</span>
                )}
              </td>
            )}
            {answered && <td className="pr-3">{t.live?.answered && <Of share={t.live.answered} />}</td>}
            {pressed && <td>{t.live?.pressed && <Of share={t.live.pressed} />}</td>}
          </tr>
        ))}
      </tbody>
    </table>
  );
}

/** A share known only within bounds. */
function Between({ low, high }: { low: number; high: number }) {
  return (
    <span className="flex items-center gap-2 whitespace-nowrap">
      <span aria-hidden className="relative inline-block h-2 w-24 shrink-0 bg-shade">
        <span
          className="absolute inset-y-0 bg-leaf/60"
          style={{ left: `${Math.round(low * 100)}%`, right: `${Math.round((1 - high) * 100)}%` }}
        />
      </span>
      {percent(low)} to {percent(high)}
    </span>
  );
}
