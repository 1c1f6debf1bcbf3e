import { useQuery } from "@tanstack/react-query";
import { type ReactNode, useRef, useState } from "react";
import { useNavigate } from "react-router";
import { api, type Schemas } from "../../api/client";
import { mutate } from "../../api/mutate";
import * as reads from "../../api/reads";
import { Button } from "../../components/Button";
import { Dialog } from "../../components/Dialog";
import { Area, Choice, Field, Input } from "../../components/Field";
import { Failed, Loading } from "../../components/Quiet";
import { Sentence } from "../../components/Sentence";
import { say } from "../../components/Toast";
import { useModels, WhichModel } from "../../components/WhichModel";
import { useHome } from "../../components/Whose";

export type Way = "described" | "template" | "blank" | "copy" | "file";

const WAYS: [Way, string, string][] = [
  ["described", "Say it", "in your words"],
  ["template", "A template", "that others begin from"],
  ["blank", "A blank page", "line by line"],
  ["copy", "A copy", "of a page of yours"],
  ["file", "A file", "from elsewhere"],
];

/** The ways to a new page: told in words, from a template, blank, copied, or from a file. */
export function NewWorkflow({
  open,
  first = "described",
  onClose,
  list,
}: {
  open: boolean;
  /** The way that is shown first. */
  first?: Way;
  onClose: () => void;
  list: Schemas["WorkflowSummary"][];
}) {
  const go = useNavigate();
  const [way, setWay] = useState(first);
  const [name, setName] = useState("");
  const { brand: home, kept } = useHome();
  const [brand, setBrand] = useState(home);
  const [told, setTold] = useState("");
  const [model, setModel] = useState("");
  const [busy, setBusy] = useState(false);
  const [wrong, setWrong] = useState("");
  const catalogue = useQuery({ ...reads.catalogue(), enabled: open });
  const models = useModels();

  /** Make the page and open it; what goes wrong is said here and nothing typed is lost. */
  async function begin(making: () => Promise<Schemas["Created"]>, blank = false) {
    setWrong("");
    setBusy(true);
    try {
      const made = await making();
      if (!blank && !made.notes?.length) say("Made. Everything it points at is here.");
      go(`/workflows/${made.id}${blank ? "?begin=1" : ""}`, { state: { notes: made.notes } });
    } catch (error) {
      setWrong((error as Error).message);
    } finally {
      setBusy(false);
    }
  }
  const create = (body: Partial<Schemas["CopyBody"]>, blank = false) =>
    begin(
      () =>
        mutate(
          api.POST("/api/workflows", {
            body: { document: null, copy_of: null, template: "", name: "", brand: "", ...body },
          }),
          "workflows",
        ),
      blank,
    );

  return (
    <Dialog open={open} onClose={onClose} title="New workflow" wide>
      <div className="grid gap-6 sm:grid-cols-[10.5rem_minmax(0,1fr)]">
        <div role="radiogroup" aria-label="How to begin" className="flex flex-col">
          {WAYS.map(([key, title, about]) => (
            <label
              key={key}
              className={`cursor-pointer border-l-2 py-1.5 pl-3 has-focus-visible:outline-2 has-focus-visible:outline-leaf ${way === key ? "border-leaf bg-leafwash" : "border-line hover:bg-shade"}`}
            >
              <input
                type="radio"
                name="way"
                className="sr-only"
                checked={way === key}
                onChange={() => {
                  setWay(key);
                  setWrong("");
                }}
              />
              <span className="block text-sm">{title}</span>
              <span className="block text-xs text-soft">{about}</span>
            </label>
          ))}
        </div>
        <div className="min-w-0">
          {way !== "file" && way !== "copy" && (
            <div className="mb-4 grid grid-cols-2 gap-3">
              <Field label={way === "blank" ? "What it is called" : "What it is called (may be left empty)"}>
                <Input maxLength={120} value={name} onChange={(e) => setName(e.target.value)} />
              </Field>
              <Field label="For which brand" help="Its facts can be used in every text.">
                <Choice value={brand} onChange={(e) => setBrand(e.target.value)}>
                  {!kept && <option value="">none</option>}
                  {catalogue.data?.brands.map((b) => (
                    <option key={b.key} value={b.key}>
                      {b.name}
                    </option>
                  ))}
                </Choice>
              </Field>
            </div>
          )}
          {way === "described" && (
            <form
              className="space-y-3"
              onSubmit={(event) => {
                event.preventDefault();
                begin(() =>
                  mutate(
                    api.POST("/api/workflows/sketch", { body: { description: told, name, brand, model } }),
                    "workflows",
                  ),
                );
              }}
            >
              <Field label="What should happen, from what sets it off to where it ends">
                <Area
                  autoFocus
                  required
                  rows={4}
                  minLength={8}
                  maxLength={4000}
                  disabled={busy}
                  placeholder="When the garden feed has a new article, read the page, write a short post about it, ask the editor, publish it and add a row to the sheet."
                  value={told}
                  onChange={(e) => setTold(e.target.value)}
                  onKeyDown={(e) => {
                    if (e.key === "Enter" && (e.ctrlKey || e.metaKey)) e.currentTarget.form?.requestSubmit();
                  }}
                />
              </Field>
              <WhichModel label="Which model turns it into a page" value={model} onChange={setModel} />
              <Button look="main" type="submit" disabled={busy || !models?.length}>
                {busy ? "The model is writing the page …" : "Draft the page"}
              </Button>
              <p className="text-xs text-soft">
                The model only chooses lines and words the drafts. You look the page through and try it on real items
                before anything is live.
              </p>
            </form>
          )}
          {way === "template" && <Templates onTake={(template) => create({ template, name, brand })} />}
          {way === "blank" && (
            <form
              onSubmit={(event) => {
                event.preventDefault();
                create({ name: name.trim() || "A new page", brand }, true);
              }}
            >
              <Button look="main" type="submit" disabled={busy}>
                Begin with a blank page
              </Button>
            </form>
          )}
          {way === "copy" && (
            <Choices>
              {list.map((w) => (
                <Choose key={w.id} title={w.name} onTake={() => create({ copy_of: w.id })}>
                  {w.brand}
                </Choose>
              ))}
              {list.length === 0 && <li className="py-2 text-sm text-soft">There is no page to copy yet.</li>}
            </Choices>
          )}
          {way === "file" && <FromFile onTake={(document) => create({ document })} onWrong={setWrong} />}
          {wrong && (
            <p role="alert" className="mt-3 text-sm text-brick">
              {wrong}
            </p>
          )}
        </div>
      </div>
    </Dialog>
  );
}

function FromFile({
  onTake,
  onWrong,
}: {
  onTake: (document: Record<string, unknown>) => void;
  onWrong: (words: string) => void;
}) {
  const file = useRef<HTMLInputElement>(null);
  async function read(chosen: File | undefined) {
    if (!chosen) return;
    try {
      onTake(JSON.parse(await chosen.text()));
    } catch {
      onWrong("This file is not JSON, so it cannot be a workflow file.");
    }
  }
  return (
    <>
      <p className="mb-3 text-sm text-soft">
        A page that was saved with “Page …, Save as a file”. What it needs is matched with what is here; the rest is
        listed.
      </p>
      <input
        ref={file}
        type="file"
        accept=".json,application/json"
        className="hidden"
        aria-label="Workflow file"
        onChange={(e) => read(e.target.files?.[0])}
      />
      <Button onClick={() => file.current?.click()}>Choose a workflow file …</Button>
    </>
  );
}

function Templates({ onTake }: { onTake: (key: string) => void }) {
  const list = useQuery(reads.templates());
  if (list.isPending) return <Loading what="Fetching the templates …" />;
  if (list.isError) return <Failed error={list.error} again={() => list.refetch()} />;
  return (
    <Choices>
      {list.data.map((one) => (
        <Choose key={one.key} title={one.name} onTake={() => onTake(one.key)}>
          {one.about}
          <span className="mt-1 block font-serif text-xs text-soft [&_.gap]:border-rule [&_.gap]:text-soft">
            {[one.start, ...one.lines].map((parts, i) => (
              <span key={i}>
                {i > 0 && " · "}
                <Sentence parts={parts} />
              </span>
            ))}
          </span>
        </Choose>
      ))}
    </Choices>
  );
}

const Choices = ({ children }: { children: ReactNode }) => (
  <ul className="max-h-[52vh] overflow-y-auto border-t border-line">{children}</ul>
);

function Choose({ title, onTake, children }: { title: string; onTake: () => void; children: ReactNode }) {
  return (
    <li>
      <button type="button" className="w-full border-b border-line px-1 py-2 text-left hover:bg-shade" onClick={onTake}>
        <span className="font-serif">{title}</span>
        <span className="block text-xs text-soft">{children}</span>
      </button>
    </li>
  );
}
