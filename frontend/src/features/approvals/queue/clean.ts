import type { Schemas } from "../../../api/client";

/** Whether nothing speaks against a draft: what is told of it is known, it keeps every rule, nothing in it is doubtful, and nobody
 * else must be asked about it. */
export function isClean(row: Pick<Schemas["StackRow"], "brief" | "broken" | "question">): boolean {
  const { brief } = row;
  return (
    !!brief && !row.question && !row.broken.length && !brief.broken.length && !brief.wrong.length && !brief.doubtful
  );
}
