/** Everything the screens read from the server, as query options in one place: its key, where it comes from, how long it holds. */
import { infiniteQueryOptions, keepPreviousData, queryOptions } from "@tanstack/react-query";
import { api, keepCsrf, ok, type Schemas } from "./client";

/** What a key begins with: all that is stale together. */
export type Topic =
  | "accounts"
  | "places"
  | "keys"
  | "trail"
  | "kept"
  | "workers"
  | "passkeys"
  | "assistants"
  | "approval"
  | "approvals"
  | "stack"
  | "notices"
  | "notice rules"
  | "push"
  | "letter"
  | "wants"
  | "before"
  | "bench"
  | "brand"
  | "brands"
  | "calendar"
  | "catalogue"
  | "cell"
  | "comparison"
  | "connections"
  | "forecast"
  | "held"
  | "house"
  | "journal"
  | "leaving"
  | "lists"
  | "mailing"
  | "revisions"
  | "clients"
  | "run"
  | "runs"
  | "session"
  | "sheet"
  | "sheets"
  | "start"
  | "takes"
  | "templates"
  | "timetables"
  | "today"
  | "values"
  | "voice"
  | "workflows";

/** What a change makes stale: a topic, or what of it has a key that begins so. */
export type Stale = Topic | readonly [Topic, ...unknown[]];

export const ROWS = 200;

/** Which rows of a sheet, in what order. */
type Asked = { words: string; where: string; sort: string; down: boolean; group: string };

const RUNS = 50;
const kept = { placeholderData: keepPreviousData };
const at = (id: number) => ({ params: { path: { id } } });

// -- the calendar and the outbox

export const calendar = (since: number, until: number, brand: string) =>
  queryOptions({
    queryKey: ["calendar", "between", since, until, brand],
    ...kept,
    queryFn: () => ok(api.GET("/api/calendar", { params: { query: { since, until, brand } } })),
  });

/** When pieces went out and go out. */
export const calendarDays = (since: number, until: number, brand: string) =>
  queryOptions({
    queryKey: ["calendar", "days", since, until, brand],
    ...kept,
    queryFn: () => ok(api.GET("/api/calendar/days", { params: { query: { since, until, brand } } })),
  });

export const calendarFeed = () =>
  queryOptions({ queryKey: ["calendar", "feed"], queryFn: () => ok(api.GET("/api/calendar/feed")) });

export const outbox = (brand: string) =>
  queryOptions({
    queryKey: ["calendar", "outbox", brand],
    queryFn: () => ok(api.GET("/api/outbox", { params: { query: { brand } } })),
  });

export const timetables = () =>
  queryOptions({ queryKey: ["timetables"], queryFn: () => ok(api.GET("/api/timetables")) });

// -- mailings and their lists

/** A mailing's letter as a reader gets it who is known by a part of the address or of another cell. */
export const mailingLetter = (mailing: Schemas["Mailing"], reader: string) =>
  queryOptions({
    queryKey: ["mailing", "letter", mailing.sheet, mailing.subject, mailing.text, reader],
    queryFn: () => ok(api.POST("/api/mailings/letter", { body: { mailing, reader } })),
    retry: false,
  });

/** The letters of a mailing in a state. */
export const mailingLetters = (id: number, state: string) =>
  queryOptions({
    queryKey: ["mailing", "letters", id, state],
    queryFn: () => ok(api.GET("/api/mailings/{id}/letters", { params: { path: { id }, query: { state } } })),
  });

/** The sheets that are lists of readers. */
export const lists = () => queryOptions({ queryKey: ["lists"], queryFn: () => ok(api.GET("/api/lists")) });

/** Who gets no mailing any more. */
export const leavers = (find: string) =>
  queryOptions({
    queryKey: ["lists", "leavers", find],
    ...kept,
    queryFn: () => ok(api.GET("/api/leavers", { params: { query: { find } } })),
  });

export const joining = (token: string) =>
  queryOptions({
    queryKey: ["leaving", "join", token],
    queryFn: () => ok(api.GET("/api/join/{token}", { params: { path: { token } } })),
  });

export const joiningYes = (token: string, answer: string) =>
  queryOptions({
    queryKey: ["leaving", "join", token, answer],
    queryFn: () => ok(api.GET("/api/join/{token}/{answer}", { params: { path: { token, answer } } })),
  });

/** What came back of a piece that went out. */
export const cameBack = (id: number) =>
  queryOptions({
    queryKey: ["mailing", "results", id],
    queryFn: () => ok(api.GET("/api/pieces/{id}/results", at(id))),
  });

// -- the house and its people

export const session = () =>
  queryOptions({
    queryKey: ["session"],
    staleTime: Number.POSITIVE_INFINITY,
    queryFn: async () => {
      const found = await ok(api.GET("/api/session"));
      keepCsrf(found.csrf);
      return found;
    },
  });

export const house = () =>
  queryOptions({ queryKey: ["house"], queryFn: () => ok(api.GET("/api/house")), refetchInterval: 30_000 });

export const held = () => queryOptions({ queryKey: ["held"], queryFn: () => ok(api.GET("/api/house/held")) });

/** Keys for other programs. */
export const keys = () => queryOptions({ queryKey: ["keys"], queryFn: () => ok(api.GET("/api/keys")) });

/** Where one is signed in. */
export const places = () => queryOptions({ queryKey: ["places"], queryFn: () => ok(api.GET("/api/session/places")) });

/** Whom an invitation is for; nothing is asked where there is none. */
export const invited = (token: string | null) =>
  queryOptions({
    queryKey: ["session", "invited", token],
    enabled: !!token,
    retry: false,
    staleTime: Number.POSITIVE_INFINITY,
    queryFn: () => ok(api.GET("/api/session/invited/{token}", { params: { path: { token: token! } } })),
  });

export const trail = (asked: { words: string; who: string; since: string; until: string }) =>
  infiniteQueryOptions({
    queryKey: ["trail", asked],
    initialPageParam: 0,
    ...kept,
    queryFn: ({ pageParam }) => {
      const { words, who, since, until } = asked;
      const days = { ...(since && { since }), ...(until && { until }) };
      return ok(api.GET("/api/trail", { params: { query: { words, who, before: pageParam, ...days } } }));
    },
    getNextPageParam: (page) => (page.more ? (page.lines.at(-1)?.id ?? null) : null),
  });

export const houseKept = () => queryOptions({ queryKey: ["kept"], queryFn: () => ok(api.GET("/api/house/kept")) });

/** Workers on other machines; they come and go. */
export const workers = () =>
  queryOptions({
    queryKey: ["workers"],
    queryFn: () => ok(api.GET("/api/house/workers")),
    refetchInterval: 3_000,
  });

/** One's own passkeys. */
export const passkeys = () =>
  queryOptions({ queryKey: ["passkeys"], queryFn: () => ok(api.GET("/api/session/passkeys")) });

export const accounts = () => queryOptions({ queryKey: ["accounts"], queryFn: () => ok(api.GET("/api/accounts")) });

export const assistants = () =>
  queryOptions({ queryKey: ["assistants"], queryFn: () => ok(api.GET("/api/assistants")) });

export const today = () =>
  queryOptions({ queryKey: ["today"], queryFn: () => ok(api.GET("/api/today")), refetchInterval: 60_000 });

// -- what a page is made of

export const catalogue = () => queryOptions({ queryKey: ["catalogue"], queryFn: () => ok(api.GET("/api/catalogue")) });

/** A kind of line explained; it is the same as long as the house runs. */
export const kind = (name: string) =>
  queryOptions({
    queryKey: ["kind", name],
    queryFn: () => ok(api.GET("/api/kinds/{name}", { params: { path: { name } } })),
    staleTime: Number.POSITIVE_INFINITY,
  });

export const connections = () =>
  queryOptions({ queryKey: ["connections"], queryFn: () => ok(api.GET("/api/connections")) });

export const templates = () => queryOptions({ queryKey: ["templates"], queryFn: () => ok(api.GET("/api/templates")) });

export const workflows = () => queryOptions({ queryKey: ["workflows"], queryFn: () => ok(api.GET("/api/workflows")) });

export const brands = () => queryOptions({ queryKey: ["brands"], queryFn: () => ok(api.GET("/api/brands")) });

export const brand = (key: string) =>
  queryOptions({
    queryKey: ["brand", key, "all"],
    queryFn: () => ok(api.GET("/api/brands/{key}", { params: { path: { key } } })),
  });

export const brandLimits = (key: string) =>
  queryOptions({
    queryKey: ["brand", key, "limits"],
    queryFn: () => ok(api.GET("/api/brands/{key}/limits", { params: { path: { key } } })),
  });

/** How a text sounds beside the brand's liked ones. */
export const voice = (brand: string, text: string) =>
  queryOptions({
    queryKey: ["voice", brand, text],
    queryFn: () => ok(api.POST("/api/brands/{key}/voice", { params: { path: { key: brand } }, body: { text } })),
    enabled: !!brand && !!text,
    staleTime: 60_000,
    ...kept,
  });

// -- the workbench

export const bench = (id: number) =>
  queryOptions({ queryKey: ["bench", id], queryFn: () => ok(api.GET("/api/workflows/{id}/bench", at(id))) });

/** What a line can name, with the values of a sample. */
export const values = (id: number, step: string, sample: number | null) =>
  queryOptions({
    queryKey: ["values", id, step, sample],
    queryFn: () =>
      ok(api.GET("/api/workflows/{id}/values/{step}", { params: { path: { id, step }, query: { sample } } })),
  });

/** A cell in full; `state` changes where it has to be read anew. */
export const cell = (id: number, sample: number | null, step: string, place: string, state: string) =>
  queryOptions({
    queryKey: ["cell", id, sample, step, place, state],
    enabled: sample !== null,
    ...kept,
    queryFn: () =>
      ok(
        api.GET("/api/workflows/{id}/cells/{sample}/{step}", {
          params: { path: { id, sample: sample!, step }, query: { place } },
        }),
      ),
  });

export const offers = (id: number, version: number, line: string, words: string) =>
  queryOptions({
    queryKey: ["offers", id, version, line, words],
    ...kept,
    queryFn: () => ok(api.GET("/api/workflows/{id}/offers", { params: { path: { id }, query: { line, words } } })),
  });

export const takes = (id: number, step: string) =>
  queryOptions({
    queryKey: ["takes", id, step],
    queryFn: () => ok(api.GET("/api/workflows/{id}/takes/{step}", { params: { path: { id, step } } })),
  });

export const start = (id: number, live: boolean) =>
  queryOptions({
    queryKey: ["start", id, live],
    queryFn: () => ok(api.GET("/api/workflows/{id}/start", at(id))),
    refetchInterval: 10_000,
  });

export const schedule = (rule: string, zone: string, quiet: string) =>
  queryOptions({
    queryKey: ["schedule", rule, zone, quiet],
    queryFn: () => ok(api.POST("/api/schedule", { body: { rule, plain: null, zone, quiet, count: 5 } })),
    retry: false,
    ...kept,
  });

/** The clients a page has, and what differs for each. */
export const clients = (id: number) =>
  queryOptions({ queryKey: ["clients", id], queryFn: () => ok(api.GET("/api/workflows/{id}/clients", at(id))) });

export const revisions = (id: number, latest: number | null) =>
  queryOptions({
    queryKey: ["revisions", id, latest],
    queryFn: () => ok(api.GET("/api/workflows/{id}/revisions", at(id))),
  });

export const revisionsCompared = (id: number, version: number, before: number, after: number) =>
  queryOptions({
    queryKey: ["revisions", id, "compared", version, before, after],
    enabled: before > 0,
    queryFn: () => ok(api.GET("/api/workflows/{id}/compare", { params: { path: { id }, query: { before, after } } })),
  });

/** What approvers change again and again in the drafts of a line. */
export const lessons = (id: number, step: string) =>
  queryOptions({
    queryKey: ["takes", "lessons", id, step],
    queryFn: () => ok(api.GET("/api/workflows/{id}/lessons/{step}", { params: { path: { id, step } } })),
    staleTime: 60_000,
  });

/** What approvers change again and again in the drafts of a brand. */
export const brandLessons = (key: string) =>
  queryOptions({
    queryKey: ["brand", key, "lessons"],
    queryFn: () => ok(api.GET("/api/brands/{key}/lessons", { params: { path: { key } } })),
    staleTime: 60_000,
  });

/** The last comparison of two versions on real items. */
export const comparison = (id: number) =>
  queryOptions({
    queryKey: ["comparison", id],
    queryFn: () => ok(api.GET("/api/workflows/{id}/comparison", at(id))),
  });

export const comparisonItems = (id: number, samples: boolean, days: number) =>
  queryOptions({
    queryKey: ["comparison", "items", id, samples, days],
    ...kept,
    queryFn: () =>
      ok(api.GET("/api/workflows/{id}/comparison/items", { params: { path: { id }, query: { samples, days } } })),
  });

/** What is missing or risky before it goes live. */
export const beforeLive = (id: number, version: number) =>
  queryOptions({
    queryKey: ["before", id, version],
    queryFn: () => ok(api.GET("/api/workflows/{id}/before", at(id))),
    staleTime: 0,
    ...kept,
  });

export const forecast = (id: number, version: number) =>
  queryOptions({
    queryKey: ["forecast", id, version],
    queryFn: () => ok(api.GET("/api/workflows/{id}/forecast", at(id))),
    ...kept,
  });

// -- runs

export const runs = (words: string, workflow: number | null, state: string) =>
  infiniteQueryOptions({
    queryKey: ["runs", words, workflow, state],
    initialPageParam: null as number | null,
    ...kept,
    queryFn: ({ pageParam }) =>
      ok(api.GET("/api/runs", { params: { query: { words, workflow, state, before: pageParam, limit: RUNS } } })),
    getNextPageParam: (page) => (page.more ? (page.runs.at(-1)?.id ?? null) : null),
  });

/** What a start finds now. */
export const items = (workflow: number, words: string) =>
  queryOptions({
    queryKey: ["items", workflow, words],
    ...kept,
    queryFn: () =>
      ok(api.GET("/api/workflows/{id}/start/items", { params: { path: { id: workflow }, query: { words } } })),
  });

/** The latest runs of one workflow, to choose from. */
export const runsOf = (workflow: number, limit: number) =>
  queryOptions({
    queryKey: ["runs", "of", workflow, limit],
    queryFn: () => ok(api.GET("/api/runs", { params: { query: { words: "", workflow, state: "", limit } } })),
  });

export const run = (id: number) =>
  queryOptions({ queryKey: ["run", id], queryFn: () => ok(api.GET("/api/runs/{id}", at(id))) });

/** A step of a run in full; `state` changes where it has to be read anew. */
export const runStep = (id: number, step: string | null, address: string, state: string) =>
  queryOptions({
    queryKey: ["run", id, "step", step, address, state],
    enabled: !!step,
    ...kept,
    queryFn: () =>
      ok(api.GET("/api/runs/{id}/steps/{step}", { params: { path: { id, step: step! }, query: { address } } })),
  });

export const runIterations = (id: number, step: string | null, state: unknown) =>
  queryOptions({
    queryKey: ["run", id, "iterations", step, state],
    ...kept,
    queryFn: () => ok(api.GET("/api/runs/{id}/iterations/{step}", { params: { path: { id, step: step! } } })),
  });

/** A run's journal, the latest page first. */
export const journal = (id: number, latest: Schemas["JournalPage"]) =>
  infiniteQueryOptions({
    queryKey: ["journal", id, latest.entries.at(-1)?.number ?? 0],
    initialPageParam: null as number | null,
    initialData: { pages: [latest], pageParams: [null] },
    staleTime: Number.POSITIVE_INFINITY,
    queryFn: ({ pageParam }) =>
      ok(api.GET("/api/runs/{id}/journal", { params: { path: { id }, query: { before: pageParam } } })),
    getNextPageParam: (page) => page.earlier ?? null,
  });

// -- approvals

export const approvals = (limit: number) =>
  queryOptions({
    queryKey: ["approvals", limit],
    ...kept,
    queryFn: () => ok(api.GET("/api/approvals", { params: { query: { limit } } })),
  });

export const stack = (workflow: number, step: string) =>
  queryOptions({
    queryKey: ["stack", workflow, step],
    queryFn: () => ok(api.GET("/api/approvals/stacks/{workflow}/{step}", { params: { path: { workflow, step } } })),
  });

export const approval = (id: number) =>
  queryOptions({ queryKey: ["approval", id], queryFn: () => ok(api.GET("/api/approvals/{id}", at(id))) });

export const letterTimes = (token: string) =>
  queryOptions({
    queryKey: ["letter times", token],
    queryFn: () => ok(api.GET("/api/letters/{token}/times", { params: { path: { token } } })),
  });

export const notices = () => queryOptions({ queryKey: ["notices"], queryFn: () => ok(api.GET("/api/notices")) });

export const noticeRules = (workflow: number | null) =>
  queryOptions({
    queryKey: ["notice rules", workflow],
    queryFn: () => ok(api.GET("/api/notices/rules", { params: { query: workflow === null ? {} : { workflow } } })),
  });

export const push = () => queryOptions({ queryKey: ["push"], queryFn: () => ok(api.GET("/api/push")) });

export const people = () => queryOptions({ queryKey: ["people"], queryFn: () => ok(api.GET("/api/people")) });

export const wants = (who: string) =>
  queryOptions({
    queryKey: ["wants", who],
    queryFn: () => ok(api.GET("/api/people/{who}/wants", { params: { path: { who } } })),
  });

export const letter = (token: string) =>
  queryOptions({
    queryKey: ["letter", token],
    queryFn: () => ok(api.GET("/api/letters/{token}", { params: { path: { token } } })),
  });

export const leaving = (token: string) =>
  queryOptions({
    queryKey: ["leaving", token],
    queryFn: () => ok(api.GET("/api/leave/{token}", { params: { path: { token } } })),
  });

export const evidence = (
  text: string,
  sources: Schemas["EvidenceBody"]["sources"],
  opinions: Schemas["OpinionView"][],
  mark: string,
) =>
  queryOptions({
    queryKey: ["evidence", text, mark],
    queryFn: () => ok(api.POST("/api/evidence", { body: { text, sources, opinions } })),
    staleTime: 600_000,
  });

export const compared = (texts: { before: string; after: string }) =>
  queryOptions({
    queryKey: ["compared", texts.before, texts.after],
    queryFn: () => ok(api.POST("/api/compare", { body: texts })),
  });

/** The record of a month (``2026-11``) of a brand, or of all. */
export const report = (brand: string, month: string, zone: string) =>
  queryOptions({
    queryKey: ["runs", "report", brand, month, zone],
    ...kept,
    queryFn: () => ok(api.GET("/api/report", { params: { query: { brand, month, zone } } })),
  });

// -- sheets and forms

export const sheets = () => queryOptions({ queryKey: ["sheets"], queryFn: () => ok(api.GET("/api/sheets")) });

/** A page of rows, as they are asked for. */
export const rowPage = (key: string, asked: Asked, page: number) =>
  queryOptions({
    queryKey: ["sheet", key, "rows", asked, page],
    ...kept,
    queryFn: () =>
      ok(
        api.GET("/api/sheets/{key}/rows", {
          params: { path: { key }, query: { ...asked, offset: page * ROWS, limit: ROWS } },
        }),
      ),
  });

export const rowGroups = (key: string, asked: Asked) =>
  queryOptions({
    queryKey: ["sheet", key, "groups", asked],
    ...kept,
    enabled: !!asked.group,
    queryFn: () => ok(api.GET("/api/sheets/{key}/groups", { params: { path: { key }, query: asked } })),
  });

/** What columns come to. */
export const rowSums = (key: string, asked: Asked, sums: string) =>
  queryOptions({
    queryKey: ["sheet", key, "sums", asked, sums],
    ...kept,
    enabled: sums !== "[]",
    queryFn: () => ok(api.GET("/api/sheets/{key}/sums", { params: { path: { key }, query: { ...asked, sums } } })),
  });

/** The keys by which other programs reach a sheet. */
export const sheetKeys = (key: string) =>
  queryOptions({
    queryKey: ["sheet", key, "keys"],
    queryFn: () => ok(api.GET("/api/sheets/{key}/keys", { params: { path: { key } } })),
  });

/** The ways of looking at a sheet that were kept. */
export const sheetViews = (key: string) =>
  queryOptions({
    queryKey: ["sheet", key, "views"],
    queryFn: () => ok(api.GET("/api/sheets/{key}/views", { params: { path: { key } } })),
  });

/** What was done to a row of a sheet; without a row, the rows that were removed lately. */
export const rowChanges = (key: string, row: number | null) =>
  queryOptions({
    queryKey: ["sheet", key, "changes", row],
    queryFn: () =>
      ok(
        row === null
          ? api.GET("/api/sheets/{key}/removed", { params: { path: { key } } })
          : api.GET("/api/sheets/{key}/rows/{row}/history", { params: { path: { key, row } } }),
      ),
  });

/** What a run did to rows at one of its places. */
export const rowsOfRun = (id: number, address: string) =>
  queryOptions({
    queryKey: ["run", id, "rows", address],
    queryFn: () => ok(api.GET("/api/runs/{id}/rows", { params: { path: { id }, query: { address } } })),
  });

/** The workflows that start from rows of a sheet. */
export const takers = (key: string) =>
  queryOptions({
    queryKey: ["sheet", key, "workflows"],
    queryFn: () => ok(api.GET("/api/sheets/{key}/workflows", { params: { path: { key } } })),
  });

export const form = (token: string) =>
  queryOptions({
    queryKey: ["form", token],
    queryFn: () => ok(api.GET("/api/forms/{token}", { params: { path: { token } } })),
    retry: false,
  });

// -- files

/** Pictures kept here, by link, as data addresses: for frames that may fetch nothing. */
export const pictures = (links: string[], keptAt: (link: string) => string) =>
  queryOptions({
    queryKey: ["pictures", ...links.map(keptAt)],
    staleTime: Number.POSITIVE_INFINITY,
    queryFn: async () => {
      const read = await Promise.all(
        links.map((link) =>
          fetch(keptAt(link))
            .then((got) => got.blob())
            .then(asData),
        ),
      );
      return Object.fromEntries(links.map((link, n) => [link, read[n]!]));
    },
  });

const asData = (blob: Blob) =>
  new Promise<string>((done) => {
    const reader = new FileReader();
    reader.onload = () => done(String(reader.result));
    reader.onerror = () => done("");
    reader.readAsDataURL(blob);
  });
