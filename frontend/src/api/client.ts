/** The generated API, with words for failures. Server state goes through here and TanStack Query, nowhere else. */
import { QueryCache, QueryClient } from "@tanstack/react-query";
import createClient, { type Middleware } from "openapi-fetch";
import type { components, paths } from "./schema";

export type Schemas = components["schemas"];
/** What is wrong in a setting, with its place in the text. */
export type SlotProblem = Schemas["LineProblemView"];
export type Cell = Schemas["CellView"];
export type Line = Schemas["LineView"];
export type Bench = Schemas["BenchView"];
export type Result = Schemas["ResultView"];
export type Finding = Schemas["FindingView"];
export type Version = Schemas["VersionView"];
export type Change = Schemas["ChangeView"];
export type Part = Schemas["PartView"];

/** An answer that refuses, in words for the person; `status` 0 where no answer came at all. */
export class ApiError extends Error {
  constructor(
    message: string,
    readonly status: number,
    readonly problems: { where: string; message: string }[] = [],
    readonly code = "",
  ) {
    super(message);
  }
}

let csrf = "";
export const keepCsrf = (token: string) => {
  csrf = token;
};

const guard: Middleware = {
  onRequest({ request }) {
    if (request.method !== "GET") request.headers.set("X-CSRF-Token", csrf);
    return request;
  },
};

export const api = createClient<paths>({ baseUrl: "" });
api.use(guard);

/** A key no other has, for what is to happen once though it be asked for twice. Also where the page is not served securely,
 *  as in an office's own network: there a browser makes no UUIDs. */
export const newKey = () =>
  Array.from(crypto.getRandomValues(new Uint8Array(16)), (n) => n.toString(16).padStart(2, "0")).join("");

/** An answer on its way. */
export type ApiCall<T> = Promise<{ data?: T; error?: unknown; response: Response }>;

/** The data of an answer, or an `ApiError`. */
export async function ok<T>(call: ApiCall<T>): Promise<T> {
  let answer: { data?: T; error?: unknown; response: Response };
  try {
    answer = await call;
  } catch {
    throw new ApiError("The server cannot be reached. What you wrote is kept here; try again in a moment.", 0);
  }
  if (answer.data !== undefined) return answer.data;
  const told = answer.error as
    | { message?: string; code?: string; problems?: { where: string; message: string }[] }
    | undefined;
  const words = told?.message || `That did not work (${answer.response.status}).`;
  throw new ApiError(words, answer.response.status, told?.problems, told?.code);
}

/** Have the house keep a file; gives it as the value a step reads. */
export function keepFile(file: File) {
  const form = new FormData();
  form.set("file", file);
  return ok(api.POST("/api/files", { body: { file: "" }, bodySerializer: () => form }));
}

export const queries: QueryClient = new QueryClient({
  queryCache: new QueryCache({
    onError: (error) => {
      // The session has ended: ask anew who is here, which leads to the sign-in page.
      if (error instanceof ApiError && error.status === 401) queries.invalidateQueries({ queryKey: ["session"] });
    },
  }),
  defaultOptions: {
    queries: {
      staleTime: 5_000,
      retry: (count, error) => !(error instanceof ApiError && error.status >= 400) && count < 3,
    },
  },
});
