import { useQuery } from "@tanstack/react-query";
import { type ReactNode, useState } from "react";
import { useNavigate, useSearchParams } from "react-router";
import { api, type Bench } from "../../../api/client";
import { mutate } from "../../../api/mutate";
import * as reads from "../../../api/reads";
import { useSession } from "../../../app/session";
import { Button } from "../../../components/Button";
import { Dialog } from "../../../components/Dialog";
import { useKeys } from "../../../components/keys";
import { Item, LinkItem, Menu } from "../../../components/Menu";
import { NoticeRules } from "../../../components/NoticeRules";
import { say, sayError } from "../../../components/Toast";
import { count } from "../../../components/words";
import { LiveState } from "../../workflows/Workflows";
import type { Saving, usePage } from "../model/page";
import type { Other } from "../model/presence";
import { Next } from "../settings/StartPanel";
import { TryChange } from "../trial/TryChange";
import { Clients } from "./Clients";
import { GoLive } from "./GoLive";
import { LimitsDialog } from "./LimitsDialog";
import { PurposeDialog } from "./PurposeDialog";
import { Revisions } from "./Revisions";
import { SayChange } from "./SayChange";

const SAVING: Record<Saving, string> = {
  saved: "Saved",
  saving: "Saving …",
  unsaved: "Not saved yet",
  conflict: "Not saved: changed elsewhere",
};

/** The head of the workbench: the page's name, whether it listens, and the way to going live. */
export function LivePanel({
  bench,
  page,
  maker,
  others,
  onChoose,
  children,
}: {
  bench: Bench;
  page: ReturnType<typeof usePage>;
  maker: boolean;
  others: Other[];
  onChoose: (line: string) => void;
  children: ReactNode;
}) {
  const go = useNavigate();
  // Led here to go live again: what came meanwhile is asked about first.
  const [search] = useSearchParams();
  const [asking, setAsking] = useState(maker && search.has("before"));
  const [limits, setLimits] = useState(false);
  const [purpose, setPurpose] = useState(false);
  const [revisions, setRevisions] = useState(false);
  const [saying, setSaying] = useState(false);
  const [trying, setTrying] = useState(false);
  const [told, setTold] = useState(false);
  const [brand] = useState(search.get("clients"));
  const [clients, setClients] = useState(brand !== null);
  const session = useSession();
  // A page that follows another is changed there.
  const writes = maker && !bench.follows;

  useKeys({ l: () => maker && setAsking(true), e: () => writes && setSaying(true) });
  const numbered = bench.lines.filter((l) => l.kind !== "lane" && l.kind !== "take");

  async function turn(to: "live" | "pause", aDay = 0) {
    const path = { params: { path: { id: bench.id } } };
    try {
      await page.flush();
      if (to === "live") {
        const { revision, following } = await mutate(
          api.POST("/api/workflows/{id}/live", { params: { ...path.params, query: { a_day: aDay } } }),
          ["bench", bench.id],
        );
        const stays = following.filter((one) => one.wrong).length;
        const others = following.length
          ? ` ${count(following.length, "client")} ${following.length === 1 ? "follows" : "follow"}${
              stays ? `; ${stays} of them lack something: look under Clients` : ""
            }.`
          : "";
        say(
          aDay
            ? `Live on revision ${revision}. What is there is run for, ${aDay} a day.${others}`
            : `Live on revision ${revision}. What comes from now on starts runs.${others}`,
        );
        setAsking(false);
      } else await mutate(api.POST("/api/workflows/{id}/pause", path), ["bench", bench.id]);
    } catch (error) {
      sayError(error);
    }
  }

  async function copy() {
    try {
      await page.flush();
      const { id } = await mutate(
        api.POST("/api/workflows", { body: { document: null, copy_of: bench.id, template: "", name: "", brand: "" } }),
        "workflows",
      );
      go(`/workflows/${id}`);
      say("This is the copy. It is not live.");
    } catch (error) {
      sayError(error);
    }
  }

  async function putAway() {
    try {
      await page.flush();
      await mutate(api.POST("/api/workflows/{id}/away", { params: { path: { id: bench.id } } }), "workflows");
      go("/workflows");
      say(`“${bench.name}” is put away, at the end of the list.`);
    } catch (error) {
      sayError(error);
    }
  }

  return (
    <div className="flex flex-wrap items-center gap-x-4 gap-y-1 border-b border-rule px-5 py-2 short:flex-nowrap short:overflow-x-auto short:py-0.5 short:whitespace-nowrap">
      <div className="min-w-0 short:shrink-0">
        <input
          aria-label="The workflow’s name"
          value={page.doc.name}
          readOnly={!writes}
          maxLength={120}
          onChange={(e) => e.target.value && page.edit((doc) => ({ ...doc, name: e.target.value }))}
          style={{ width: `${Math.max(10, page.doc.name.length * 0.92)}ch` }}
          className="max-w-[36rem] truncate rounded bg-transparent font-serif text-xl font-semibold tracking-tight hover:bg-shade"
        />
      </div>
      <LiveState state={bench.state} />
      <span className="text-xs text-soft">
        <OfBrand page={page} maker={writes} name={bench.brand} />
        {bench.clients > 0 && (
          <>
            {" · "}
            <button
              type="button"
              className="underline decoration-dotted underline-offset-2"
              onClick={() => setClients(true)}
            >
              and {count(bench.clients, "other client")}
            </button>
          </>
        )}
        {bench.revision ? " · " : ""}
        {bench.revision && (
          <button
            type="button"
            className="underline decoration-dotted underline-offset-2"
            onClick={() => setRevisions(true)}
          >
            revision {bench.revision}
            {bench.changed ? ", changed since" : ""}
          </button>
        )}
      </span>
      {bench.state === "live" && !bench.failed && !bench.changed && <Next workflow={bench.id} maker={maker} />}
      {bench.failed && <span className="text-xs text-brick">✕ {bench.found}</span>}
      {others.map((other) => {
        const at = numbered.findIndex((l) => l.id === other.line) + 1;
        return (
          <button
            key={other.who}
            type="button"
            className="text-xs text-ochre"
            onClick={() => other.line && onChoose(other.line)}
          >
            ◐ {other.name} is here{at > 0 ? `, on line ${at}` : ""}
          </button>
        );
      })}
      <span role="status" className="ml-auto text-xs text-soft">
        {writes ? SAVING[page.saving] : maker ? "Follows another page" : "You may look, not change"}
      </span>
      {children}
      {maker && (
        <>
          {bench.state === "live" && !bench.changed ? (
            <Button onClick={() => turn("pause")}>Pause</Button>
          ) : (
            <Button look="main" onClick={() => setAsking(true)}>
              {bench.state === "live" ? "Make the changes live" : "Go live"}
            </Button>
          )}
          <Menu
            opens={
              <Button look="quiet" className="!px-2">
                Page …
              </Button>
            }
          >
            <Item onSelect={() => setClients(true)}>Clients …</Item>
            {writes && <Item onSelect={() => setSaying(true)}>Say what is to change …</Item>}
            {writes && <Item onSelect={() => setLimits(true)}>Limits and time zone …</Item>}
            {writes && <Item onSelect={() => setPurpose(true)}>What it is for …</Item>}
            <Item onSelect={() => setRevisions(true)}>Revisions …</Item>
            <Item onSelect={() => setTrying(true)}>Try the change on real items …</Item>
            <Item onSelect={() => setTold(true)}>When something is wrong …</Item>
            <Item onSelect={copy}>Make a copy</Item>
            <LinkItem>
              <a href={`/api/workflows/${bench.id}/file`} download>
                Save as a file
              </a>
            </LinkItem>
            <Item onSelect={putAway}>{bench.state === "live" ? "Pause and put away" : "Put away"}</Item>
          </Menu>
        </>
      )}
      {told && (
        <Dialog
          open
          onClose={() => setTold(false)}
          title="When something is wrong"
          about="Who is told of this workflow. Who hears of the whole house is said under Account."
        >
          <NoticeRules workflow={bench.id} own={session.data?.email ?? ""} />
        </Dialog>
      )}
      {saying && <SayChange workflow={bench.id} page={page} onClose={() => setSaying(false)} />}
      {clients && <Clients workflow={bench.id} maker={maker} first={brand} onClose={() => setClients(false)} />}
      {purpose && <PurposeDialog page={page} onClose={() => setPurpose(false)} />}
      {limits && <LimitsDialog bench={bench} page={page} onClose={() => setLimits(false)} />}
      {asking && (
        <GoLive
          bench={bench}
          onTry={() => {
            setAsking(false);
            setTrying(true);
          }}
          onClose={() => setAsking(false)}
          onChoose={onChoose}
          onTurn={turn}
        />
      )}
      {trying && <TryChange bench={bench} flush={page.flush} onClose={() => setTrying(false)} />}
      {revisions && <Revisions bench={bench} page={page} maker={writes} onClose={() => setRevisions(false)} />}
    </div>
  );
}

/** Whose page it is, to be chosen. */
function OfBrand({ page, maker, name }: { page: ReturnType<typeof usePage>; maker: boolean; name: string }) {
  const catalogue = useQuery({ ...reads.catalogue(), enabled: maker });
  if (!maker || !catalogue.data) return <>{name}</>;
  return (
    <select
      aria-label="The brand it is for"
      value={page.doc.brand ?? ""}
      onChange={(e) => page.edit((doc) => ({ ...doc, brand: e.target.value || null }))}
      className="max-w-[14rem] rounded bg-transparent py-0.5 [field-sizing:content] hover:bg-shade"
    >
      <option value="">no brand</option>
      {catalogue.data.brands.map((b) => (
        <option key={b.key} value={b.key}>
          {b.name}
        </option>
      ))}
    </select>
  );
}
