/** A house's first hour: what is needed before the first piece goes out, in order, each tried on the spot. */
import { useQuery } from "@tanstack/react-query";
import { type ReactNode, useState } from "react";
import { Link, useNavigate } from "react-router";
import { api, type Schemas } from "../../api/client";
import { mutate } from "../../api/mutate";
import * as reads from "../../api/reads";
import { Away } from "../../components/Away";
import { Button } from "../../components/Button";
import { Item, Menu } from "../../components/Menu";
import { say, sayError } from "../../components/Toast";
import { NewBrand } from "../brands/NewBrand";
import { ConnectionForm } from "../connections/ConnectionForm";

type Steps = Schemas["FirstSteps"];
type Taken = Schemas["StepTaken"];
type Kind = Schemas["ConnectionKindView"];

export function FirstSteps({ steps, owner, maker }: { steps: Steps; owner: boolean; maker: boolean }) {
  const [adding, setAdding] = useState<Kind | null>(null);
  const [branding, setBranding] = useState(false);
  const [busy, setBusy] = useState("");
  const go = useNavigate();
  const all = useQuery({ ...reads.connections(), enabled: maker });
  const kinds = all.data?.kinds ?? [];
  const ready = !!steps.model && !!steps.channel;

  async function doing(what: string, act: () => Promise<unknown>) {
    setBusy(what);
    try {
      await act();
    } catch (error) {
      sayError(error);
    } finally {
      setBusy("");
    }
  }
  const test = (key: string) =>
    doing(key, async () => {
      const told = await mutate(
        api.POST("/api/connections/{key}/test", { params: { path: { key } } }),
        "connections",
        "catalogue",
        "today",
      );
      if (told.ok) say(told.says || "It answers.");
    });
  const practise = () =>
    doing("practice", () => mutate(api.POST("/api/house/practice"), "connections", "catalogue", "today", "session"));
  const blank = () =>
    doing("blank", async () => {
      const made = await mutate(
        api.POST("/api/workflows", {
          body: { document: null, copy_of: null, template: "", name: "My first page", brand: steps.brand?.key ?? "" },
        }),
        "workflows",
        "today",
      );
      go(`/workflows/${made.id}?begin=1`);
    });
  const putAway = () => doing("away", () => mutate(api.DELETE("/api/house/first-steps"), "today"));

  return (
    <section aria-labelledby="first" className="mt-6">
      <div className="flex flex-wrap items-baseline justify-between gap-3 border-b border-rule pb-1">
        <h2 id="first" className="smallcaps text-lg">
          Before the first piece goes out
        </h2>
        {owner && (
          <Button look="quiet" disabled={!!busy} onClick={putAway}>
            Put this away
          </Button>
        )}
      </div>
      {!ready && (
        <div className="mt-4 flex flex-wrap items-center gap-x-6 gap-y-3 border-l-2 border-leaf bg-leafwash px-4 py-3">
          <p className="min-w-0 flex-1 basis-80 text-sm">
            <span className="font-serif text-base">No keys at hand?</span> The practice town stands in for the world: a
            model that drafts, a network, news, search and mail, all on this machine. Nothing that goes out there leaves
            it.
          </p>
          {owner ? (
            <Button look="main" disabled={!!busy} onClick={practise}>
              {busy === "practice" ? "Opening the practice town …" : "Practise first"}
            </Button>
          ) : (
            <p className="text-sm text-soft">An owner opens it.</p>
          )}
        </div>
      )}
      {steps.town && (
        <p className="mt-4 border-l-2 border-leaf bg-leafwash px-4 py-2 text-sm">
          You practise: what goes out stands in the{" "}
          <Away to={steps.town} className="underline underline-offset-2">
            practice town
          </Away>
          . A feed to try is <span className="font-mono text-xs">{steps.town}/sites/furrow-letter/feed.rss</span>
        </p>
      )}
      <ol className="mt-2">
        <Step
          number={1}
          title="A model that drafts"
          about="It writes the drafts; you give it the prompts."
          taken={steps.model}
          busy={busy}
          onTest={maker ? test : undefined}
        >
          {owner && (
            <Button disabled={!all.data} onClick={() => setAdding(kinds.find((kind) => kind.name === "model") ?? null)}>
              Add a model …
            </Button>
          )}
        </Step>
        <Step
          number={2}
          title="A place to publish"
          about="A network, a blog, a mail server, a room."
          taken={steps.channel}
          busy={busy}
          onTest={maker ? test : undefined}
        >
          {owner && (
            <Menu opens={<Button disabled={!all.data}>Add a channel …</Button>}>
              {kinds
                .filter((kind) => kind.sends)
                .map((kind) => (
                  <Item key={kind.name} onSelect={() => setAdding(kind)}>
                    {kind.title}
                    <span className="block text-xs text-soft">{kind.about}</span>
                  </Item>
                ))}
            </Menu>
          )}
        </Step>
        <Step
          number={3}
          title="A brand"
          about="Who it is for and how it sounds. It may wait."
          taken={steps.brand}
          to={steps.brand ? `/brands/${steps.brand.key}` : undefined}
          busy={busy}
        >
          {maker && <Button onClick={() => setBranding(true)}>Add a brand …</Button>}
        </Step>
        <Step
          number={4}
          title="A page"
          about="What sets it off, what happens, where it ends: a line each."
          taken={steps.page && { ...steps.page, ok: null, says: "" }}
          to={steps.page ? `/workflows/${steps.page.key}` : undefined}
          busy={busy}
        >
          {maker && (
            <>
              <Button look={ready ? "main" : "plain"} disabled={!!busy} onClick={blank}>
                Begin with a blank page
              </Button>
              <Button onClick={() => go("/workflows?new=template")}>Take a template …</Button>
              <Button onClick={() => go("/workflows?new=described")}>Say what should happen …</Button>
            </>
          )}
        </Step>
        <Step
          number={5}
          title="It goes live"
          about="Then it runs by itself, and asks before anything goes out."
          taken={steps.page?.ok ? { ...steps.page, says: RUN[steps.page.says] ?? "" } : null}
          to={steps.page?.ok ? `/workflows/${steps.page.key}` : undefined}
          busy={busy}
        >
          {steps.page && (
            <Link className="text-sm text-leaf underline underline-offset-2" to={`/workflows/${steps.page.key}`}>
              Open “{steps.page.name}”
            </Link>
          )}
        </Step>
      </ol>
      {adding && (
        <ConnectionForm
          kind={adding}
          connection={null}
          redirect={all.data?.redirect ?? ""}
          onClose={() => setAdding(null)}
          onKept={(key) => {
            setAdding(null);
            test(key);
          }}
        />
      )}
      <NewBrand open={branding} onClose={() => setBranding(false)} />
    </section>
  );
}

/** How the first run stands, in words. */
const RUN: Record<string, string> = {
  running: "It runs now.",
  waiting: "A draft waits for you.",
  done: "Its first run is through.",
  failed: "Its run stopped: see Runs.",
};

/** One step: open, with what takes it; or taken, with what it was taken with and whether that answers. */
function Step({
  number,
  title,
  about,
  taken,
  to,
  busy,
  onTest,
  children,
}: {
  number: number;
  title: string;
  about: string;
  taken: Taken | null;
  /** Where what it was taken with is looked at. */
  to?: string;
  busy: string;
  onTest?: (key: string) => void;
  children?: ReactNode;
}) {
  const bad = taken?.ok === false;
  return (
    <li className="grid grid-cols-[1.75rem_minmax(0,1fr)] gap-x-3 gap-y-2 border-b border-line py-3 md:grid-cols-[1.75rem_minmax(0,1fr)_auto]">
      <span aria-hidden className={`font-serif text-xl leading-none ${taken && !bad ? "text-leaf" : "text-soft"}`}>
        {taken && !bad ? "✓" : number}
      </span>
      <div>
        <h3 className="font-serif text-base leading-tight">
          {title}
          {taken && <span className="sr-only">{bad ? ": does not answer" : ": there"}</span>}
        </h3>
        {taken ? (
          <p className={`mt-0.5 text-sm ${bad ? "text-brick" : "text-soft"}`}>
            {to ? (
              <Link className="underline underline-offset-2" to={to}>
                {taken.name}
              </Link>
            ) : (
              taken.name
            )}
            {busy === taken.key ? ": it is being tried …" : taken.says && `: ${taken.says}`}
          </p>
        ) : (
          <p className="mt-0.5 text-sm text-soft">{about}</p>
        )}
      </div>
      <div className="col-start-2 flex flex-wrap items-center gap-2 md:col-start-3 md:justify-end">
        {taken && onTest && taken.ok !== true && (
          <Button disabled={!!busy} onClick={() => onTest(taken.key)}>
            Try it
          </Button>
        )}
        {(!taken || bad) && children}
      </div>
    </li>
  );
}
