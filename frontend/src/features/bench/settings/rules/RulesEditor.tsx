import { lazy, type ReactNode, Suspense, useState } from "react";
import type { Schemas, SlotProblem } from "../../../../api/client";
import { Button } from "../../../../components/Button";
import { Choice, Input } from "../../../../components/Field";
import { aboutWhat, type Bound, boundOf, LANGUAGES, NEW, type RuleDoc, withBound, wordsOf } from "./rules";

const SlotEditor = lazy(() => import("../../slots/SlotEditor"));

type Around = { fields: string[]; values: Schemas["ValueView"][]; problems: SlotProblem[]; disabled: boolean };

/** The rules of a draft as sentences with blanks, each a must or a should, of the whole or of a part. */
export function RulesEditor({
  rules,
  onChange,
  ...around
}: Around & { rules: RuleDoc[]; onChange: (rules: RuleDoc[]) => void }) {
  const change = (i: number, next: RuleDoc) => onChange(rules.map((r, j) => (j === i ? next : r)));
  const ofAll = around.problems.filter((p) => p.start === null);
  return (
    <div>
      <div className="mb-0.5 text-xs text-soft">Rules, measured on every draft</div>
      <ul className="border-t border-line">
        {rules.map((rule, i) => (
          <li
            key={`${i} ${rule.rule} ${rules.length}`}
            className="flex flex-wrap items-center justify-end gap-x-2 gap-y-1 border-b border-line py-1 text-sm"
          >
            <div className="flex min-w-60 flex-1 flex-wrap items-center gap-1.5">
              <Blank
                rule={rule}
                change={(next) => change(i, next)}
                {...around}
                problems={around.problems.filter((p) => p.place[1] === String(i))}
              />
            </div>
            <div className="flex items-center gap-1.5">
              <Of rule={rule} fields={around.fields} change={(of) => change(i, { ...rule, of })} />
              <Choice
                aria-label="How strict"
                className="!w-auto"
                value={rule.strength ?? "must"}
                onChange={(e) => change(i, { ...rule, strength: e.target.value as "must" | "should" })}
              >
                <option value="must">must</option>
                <option value="should">should</option>
              </Choice>
              <Button
                look="quiet"
                aria-label="Remove this rule"
                onClick={() => onChange(rules.filter((_, j) => j !== i))}
              >
                Remove
              </Button>
            </div>
          </li>
        ))}
      </ul>
      {ofAll.map((p) => (
        <p key={p.message} className="mt-1 text-xs text-brick">
          {p.message}
        </p>
      ))}
      <Choice
        aria-label="Add a rule"
        className="mt-1.5 !w-auto"
        value=""
        onChange={(e) => {
          const found = NEW.find(([name]) => name === e.target.value);
          if (found) onChange([...rules, found[1]]);
        }}
      >
        <option value="">Add a rule …</option>
        {NEW.map(([name]) => (
          <option key={name}>{name}</option>
        ))}
      </Choice>
    </div>
  );
}

/** What a rule is about: the whole, a field of the answer, or a part of the text. */
function Of({ rule, fields, change }: { rule: RuleDoc; fields: string[]; change: (of: string) => void }) {
  const some = aboutWhat(rule, fields);
  if (!some.length) return null;
  return (
    <Choice aria-label="Of what" className="!w-36" value={rule.of ?? ""} onChange={(e) => change(e.target.value)}>
      <option value="">of the whole</option>
      {some.map(([of, words]) => (
        <option key={of} value={of}>
          of the {words}
        </option>
      ))}
    </Choice>
  );
}

/** A short text with slots within a rule's sentence. */
function Short({
  label,
  value,
  place,
  wide = false,
  focus,
  onChange,
  values,
  problems,
  disabled,
}: Around & {
  label: string;
  value: string;
  place: string;
  wide?: boolean;
  focus?: boolean;
  onChange: (text: string) => void;
}) {
  return (
    <div className={wide ? "w-72" : "w-52"}>
      <Suspense
        fallback={
          <div data-late className="rounded border border-line p-1 text-sm">
            {value}
          </div>
        }
      >
        <SlotEditor
          label={label}
          value={value}
          values={values}
          problems={problems.filter((p) => p.start === null || p.place[2] === place || p.place[3] === place)}
          disabled={disabled}
          focus={focus}
          onChange={onChange}
        />
      </Suspense>
    </div>
  );
}

/** A number; `<<` takes it from a value. */
function Numeral({
  rule,
  name,
  label,
  change,
  ...around
}: Around & { rule: RuleDoc; name: Bound; label: string; change: (rule: RuleDoc) => void }) {
  const [typing, setTyping] = useState(false);
  const value = boundOf(rule, name);
  if (!value.includes("<"))
    return (
      <Input
        aria-label={label}
        inputMode="numeric"
        title="A number, or << to take it from a value"
        className="!w-16"
        value={value}
        onChange={(e) => {
          if (e.target.value.includes("<")) setTyping(true);
          change(withBound(rule, name, e.target.value));
        }}
      />
    );
  return (
    <Short
      {...around}
      label={label}
      value={value}
      place={name}
      focus={typing}
      onChange={(text) => change(withBound(rule, name, text))}
    />
  );
}

function Blank({ rule, change, ...around }: Around & { rule: RuleDoc; change: (rule: RuleDoc) => void }): ReactNode {
  const number = (name: Bound, label: string) => (
    <Numeral rule={rule} name={name} label={label} change={change} {...around} />
  );
  switch (rule.rule) {
    case "length":
      return (
        <>
          At most {number("most", "Greatest length")} characters, at least {number("least", "Least length")}
        </>
      );
    case "hashtags":
      return (
        <>
          From {number("least", "Fewest hashtags")} to {number("most", "Most hashtags")} hashtags
        </>
      );
    case "adds_up":
      return (
        <>
          The{" "}
          <Input
            aria-label="Which field"
            className="!w-24"
            value={rule.field ?? ""}
            onChange={(e) => change({ ...rule, field: e.target.value })}
          />{" "}
          of all items add up to{" "}
          <Short
            {...around}
            label="The total"
            value={rule.text ?? ""}
            place="text"
            onChange={(text) => change({ ...rule, text })}
          />
        </>
      );
    case "unlike":
      return (
        <>At most {number("most", "Most like an earlier piece, in per cent")} % like any piece that went out before</>
      );
    case "links_answer":
      return <>Every link in it leads somewhere</>;
    case "no_echo":
      return <>Doesn’t repeat the instruction</>;
    case "not_stated":
      return <>Says “not stated”, or nothing, where no source says it</>;
    case "contains":
      return (
        <>
          Contains{" "}
          <Short
            {...around}
            wide
            label="What it must contain"
            value={rule.text ?? ""}
            place="text"
            onChange={(text) => change({ ...rule, text })}
          />
        </>
      );
    case "words":
    case "sentences":
      return (
        <>
          At most {number("most", `Most ${rule.rule}`)} {rule.rule}, at least {number("least", `Fewest ${rule.rule}`)}
        </>
      );
    case "links":
    case "mentions":
    case "emoji":
      return (
        <>
          From {number("least", `Fewest ${rule.rule}`)} to {number("most", `Most ${rule.rule}`)} {rule.rule}
        </>
      );
    case "spoken":
      return (
        <>
          Said in at most {number("most", "Most seconds")} seconds, at
          <Input
            aria-label="Words a minute"
            type="number"
            min={60}
            max={300}
            className="!w-20"
            value={rule.pace ?? 150}
            onChange={(e) => change({ ...rule, pace: Number(e.target.value) })}
          />
          words a minute
        </>
      );
    case "easy":
      return <>Reading ease of at least {number("least", "Least reading ease")} (60 is plain, 30 hard)</>;
    case "language":
      return <Language rule={rule} change={change} {...around} />;
    case "html":
      return <>Well-formed HTML of plain elements, no scripts</>;
    case "says":
    case "lacks":
      return (
        <>
          {rule.rule === "says" ? "Says one of " : "Never says "}
          <Short
            {...around}
            wide
            label={
              rule.rule === "says"
                ? "Words of which it must say one, with commas between"
                : "Words it must not use, with commas between"
            }
            value={(rule.words ?? []).join(", ")}
            place="words"
            onChange={(text) => {
              const words = wordsOf(text);
              if (words.length) change({ ...rule, words });
            }}
          />
        </>
      );
    default:
      return <>{NEW.find(([, r]) => r.rule === rule.rule)?.[0] ?? rule.rule}</>;
  }
}

const OF_A_VALUE = "<<";

/** A language of the list, or the one that a value names. */
function Language({ rule, change, ...around }: Around & { rule: RuleDoc; change: (rule: RuleDoc) => void }) {
  const code = rule.code ?? "en";
  const ofValue = code.includes("<");
  return (
    <>
      Written in{" "}
      <Choice
        aria-label="Language"
        className="!w-auto"
        value={ofValue ? OF_A_VALUE : code}
        onChange={(e) => change({ ...rule, code: e.target.value })}
      >
        {LANGUAGES.map(([one, name]) => (
          <option key={one} value={one}>
            {name}
          </option>
        ))}
        <option value={OF_A_VALUE}>the language a value names …</option>
      </Choice>
      {ofValue && (
        <Short
          {...around}
          label="The value that names the language"
          value={code}
          place="code"
          focus={code === OF_A_VALUE}
          onChange={(text) => change({ ...rule, code: text.includes("<") ? text : OF_A_VALUE })}
        />
      )}
    </>
  );
}
