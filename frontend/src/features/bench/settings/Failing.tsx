import { Choice, Field, Input } from "../../../components/Field";
import type { Policy } from "../model/document";

const clamp = (text: string, least: number, most: number) => Math.min(most, Math.max(least, Number(text) || 0));

const AFTER = {
  stop: "stop; it can be taken up again",
  skip: "pass over it: this line, or the item it stands in",
  value: "go on with a value of mine",
  ask: "ask a person how to go on",
};

/** What happens when the line fails: tries, and what follows the last. */
export function Failing({
  policy,
  retries,
  onChange,
}: {
  policy: Policy;
  /** Whether another try could help. */
  retries: boolean;
  onChange: (policy: Policy) => void;
}) {
  const after = policy.after ?? "stop";
  return (
    <div className="grid grid-cols-[5rem_5rem_1fr] gap-3 border-t border-line pt-3">
      {retries && (
        <>
          <Field label="Try again">
            <Input
              type="number"
              min={0}
              max={10}
              aria-label="If it fails, try again"
              value={policy.retries}
              onChange={(e) => onChange({ ...policy, retries: clamp(e.target.value, 0, 10) })}
            />
          </Field>
          <Field label="after s">
            <Input
              type="number"
              min={0}
              max={3600}
              aria-label="after seconds"
              title="Each further try waits twice as long."
              value={policy.wait}
              onChange={(e) => onChange({ ...policy, wait: clamp(e.target.value, 0, 3600) })}
            />
          </Field>
        </>
      )}
      <div className={retries ? "" : "col-span-3"}>
        <Field label={retries ? "If it still fails" : "If it fails"}>
          <Choice value={after} onChange={(e) => onChange({ ...policy, after: e.target.value as Policy["after"] })}>
            {Object.entries(AFTER).map(([key, words]) => (
              <option key={key} value={key}>
                {words}
              </option>
            ))}
          </Choice>
        </Field>
      </div>
      {after === "value" && (
        <div className="col-span-3">
          <Field label="The value to go on with" help="It stands for the line’s main value, such as its text.">
            <Input value={policy.value ?? ""} onChange={(e) => onChange({ ...policy, value: e.target.value })} />
          </Field>
        </div>
      )}
    </div>
  );
}
