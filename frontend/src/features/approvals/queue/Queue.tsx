/** The questions that wait, each in three short lines, those due first in front; alike ones of one line as a stack. */
import { Link } from "react-router";
import type { Schemas } from "../../../api/client";
import { ago, when } from "../../../components/words";
import { DECIDED } from "../desk/parts";

type Summary = Schemas["ApprovalSummary"];
type Stack = Schemas["StackBrief"];

/** Where a stack is read. */
export const stackAt = (stack: Pick<Stack, "workflow" | "step">) => `/approvals/stacks/${stack.workflow}/${stack.step}`;

/** Questions and stacks in the order they are due. */
export function ordered(open: readonly Summary[], stacks: readonly Stack[]): (Summary | Stack)[] {
  const due = (one: Summary | Stack) => one.due_at ?? Number.POSITIVE_INFINITY;
  const since = (one: Summary | Stack) => ("count" in one ? one.since : one.created_at);
  return [...open, ...stacks].sort((a, b) => (due(a) === due(b) ? since(a) - since(b) : due(a) - due(b)));
}

const ENTRY = "block border-l-[3px] px-4 py-2";
const looks = (here: boolean) => `${ENTRY} ${here ? "border-leaf bg-shade" : "border-transparent hover:bg-shade/60"}`;

export function Waiting({
  open,
  stacks,
  chosen,
  stack,
}: {
  open: readonly Summary[];
  stacks: readonly Stack[];
  chosen?: number;
  stack?: string;
}) {
  return (
    <ul>
      {ordered(open, stacks).map((one) =>
        "count" in one ? (
          <li key={`${one.workflow}/${one.step}`}>
            <Link
              to={stackAt(one)}
              aria-current={stack === `${one.workflow}/${one.step}` ? "page" : undefined}
              className={looks(stack === `${one.workflow}/${one.step}`)}
            >
              <span className="line-clamp-1 font-serif text-reading leading-snug">
                {one.count} alike · {one.workflow_name}
              </span>
              <span className="line-clamp-1 text-xs text-soft">{one.opening}</span>
              <span className="block text-xs text-soft">
                <Facts
                  parts={[
                    one.brand_name,
                    one.due_at ? <Due key="due" at={one.due_at} /> : ago(one.since),
                    one.broken > 0 && <Wrong key="rules" words={`${one.broken} break rules`} />,
                    one.doubtful > 0 && <Doubt key="doubt" words={`${one.doubtful} with doubts`} />,
                  ]}
                />
              </span>
            </Link>
          </li>
        ) : (
          <li key={one.id}>
            <Link
              to={`/approvals/${one.id}`}
              aria-current={one.id === chosen ? "page" : undefined}
              className={looks(one.id === chosen)}
            >
              <Entry one={one} />
            </Link>
          </li>
        ),
      )}
    </ul>
  );
}

function Entry({ one }: { one: Summary }) {
  const brief = one.brief;
  const where = brief ? [brief.form, brief.channels.join(", ")].filter(Boolean).join(" on ") : "";
  const rules = brief?.broken.length ?? one.broken.length;
  return (
    <>
      <span className="line-clamp-1 font-serif text-reading leading-snug">{one.title}</span>
      <span className="line-clamp-1 text-xs">{brief?.opening || one.text}</span>
      <span className="block text-xs text-soft">
        <Facts parts={[one.brand_name, one.question ? "a question" : where, one.round > 1 && `round ${one.round}`]} />
      </span>
      <span className="block text-xs text-soft">
        <Facts
          parts={[
            one.due_at ? <Due key="due" at={one.due_at} goes={one.due_at === one.goes_at} /> : null,
            waits(one.created_at),
            one.taken && "taken as a yes",
            rules > 0 && <Wrong key="rules" words={`${rules} ${rules === 1 ? "rule" : "rules"} broken`} />,
            !!brief?.doubtful && <Doubt key="doubt" words={`${brief.doubtful} doubtful`} />,
          ]}
        />
      </span>
    </>
  );
}

/** “just now”, “for 3 hours”. */
const waits = (since: number) => {
  const said = ago(since);
  return said.endsWith(" ago") ? `waits for ${said.slice(0, -4)}` : said;
};

function Facts({ parts }: { parts: React.ReactNode[] }) {
  const there = parts.filter(Boolean);
  return there.map((part, n) => (
    <span key={n}>
      {n > 0 && " · "}
      {part}
    </span>
  ));
}

const Wrong = ({ words }: { words: string }) => <span className="text-brick">✕ {words}</span>;
const Doubt = ({ words }: { words: string }) => <span className="text-ochre">◇ {words}</span>;

function Due({ at, goes = false }: { at: number; goes?: boolean }) {
  const late = at * 1000 < Date.now();
  return (
    <span className={late ? "text-brick" : ""}>
      {late ? "was due" : goes ? "goes" : "due"} {when(at)}
    </span>
  );
}

export function Decided({ list, chosen }: { list: readonly Summary[]; chosen?: number }) {
  return (
    <ul>
      {list.map((one) => (
        <li key={one.id}>
          <Link
            to={`/approvals/${one.id}`}
            aria-current={one.id === chosen ? "page" : undefined}
            className={looks(one.id === chosen)}
          >
            <span className="line-clamp-1 font-serif text-reading leading-snug">{one.title}</span>
            <span className="text-xs text-soft">
              {DECIDED[one.state]?.toLowerCase()}, {one.decided_at ? when(one.decided_at) : ""}
            </span>
          </Link>
        </li>
      ))}
    </ul>
  );
}
