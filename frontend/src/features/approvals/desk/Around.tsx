/** Who is asked, what they said, and by when: one line under the title. */
import type { Schemas } from "../../../api/client";
import { Button } from "../../../components/Button";
import { ago, when } from "../../../components/words";

type Asked = Pick<
  Schemas["AskedByMail"],
  "people" | "needs" | "goes_at" | "deadline_at" | "deadline_then" | "taken" | "state"
>;

const RULE: Record<string, string> = {
  one: "any one of them decides",
  all: "all must say yes",
  order: "one after another must say yes",
};
const THEN: Record<string, string> = {
  approve: "then it goes on as if approved",
  decline: "then it is left",
  other: "then another is asked",
};

export function People({ asked }: { asked: Asked }) {
  const { people } = asked;
  if (people.length === 1 && !people[0]!.instead_of) return null;
  return (
    <ul aria-label="Who is asked" className="mt-1 flex flex-wrap gap-x-4 gap-y-1 text-xs text-soft">
      {people.map((one) => (
        <li key={one.who}>
          {one.said === "approve" ? (
            <span className="text-leaf">● </span>
          ) : one.waits ? (
            <span className="text-ochre">◐ </span>
          ) : (
            "○ "
          )}
          {one.name || one.who}
          {one.instead_of && ` for ${one.instead_of}`}
          {one.said === "approve"
            ? ` said yes${one.said_at ? ` ${ago(one.said_at)}` : ""}`
            : one.waits
              ? ""
              : ", asked later"}
        </li>
      ))}
      {people.length > 1 && <li>{RULE[asked.needs]}</li>}
    </ul>
  );
}

export function ByWhen({ asked }: { asked: Asked }) {
  if (asked.state !== "open" || !(asked.goes_at || asked.deadline_at)) return null;
  const late = asked.deadline_at && asked.deadline_at * 1000 < Date.now();
  return (
    <p className="mt-1 text-xs text-soft">
      {asked.goes_at && `Would go out ${when(asked.goes_at)}. `}
      {asked.deadline_at && (
        <span className={late ? "text-brick" : ""}>
          Answer due {when(asked.deadline_at)}
          {THEN[asked.deadline_then] && !late && `, ${THEN[asked.deadline_then]}`}
          {late && ", and nobody answered"}.
        </span>
      )}
    </p>
  );
}

/** An answer that a model read as a yes: it counts later, and can be taken back. */
export function TakenAsYes({ asked, onTakeBack }: { asked: Asked; onTakeBack: () => void }) {
  if (!asked.taken || asked.state !== "open") return null;
  return (
    <div role="status" className="my-3 border-l-2 border-ochre bg-ochrewash px-3 py-2 text-sm">
      An answer by {asked.taken.by} was read {asked.taken.text ? "as the text they want, and a yes to it," : "as a yes"}{" "}
      by a model. It counts at {when(asked.taken.until)}.
      {asked.taken.text && (
        <span className="piece my-2 block border-l border-ochre pl-2 whitespace-pre-wrap">{asked.taken.text}</span>
      )}
      <Button className="ml-3" onClick={onTakeBack}>
        It is no yes
      </Button>
    </div>
  );
}
