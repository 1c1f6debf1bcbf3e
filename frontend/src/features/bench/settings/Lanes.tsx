import type { SlotProblem } from "../../../api/client";
import { Button } from "../../../components/Button";
import { Field } from "../../../components/Field";
import type { LaneDoc } from "../model/document";
import type { Value } from "../slots/valuetree";
import { ConditionEditor } from "./ConditionEditor";

/** The lanes of a fork: each a condition in words; the one without is for everything else. */
export function Lanes({
  lanes,
  values,
  problems,
  onChange,
  onAdd,
  onRemove,
}: {
  lanes: LaneDoc[];
  values: Value[];
  problems: SlotProblem[];
  onChange: (lanes: LaneDoc[]) => void;
  onAdd: () => void;
  onRemove: (lane: string) => void;
}) {
  const change = (i: number, part: Partial<LaneDoc>) =>
    onChange(lanes.map((lane, j) => (j === i ? { ...lane, ...part } : lane)));
  return (
    <Field
      group
      label="Lanes"
      help="The first lane whose condition holds is taken; the one without is for everything else."
    >
      <ol className="border-t border-line">
        {lanes.map((lane, i) => {
          const wrong = problems.find((p) => p.place[0] === "lanes" && p.place[1] === lane.id);
          return (
            <li key={lane.id} className="border-b border-line py-2">
              <div className="mb-1 flex items-center gap-2">
                <span className="slot mr-auto text-sm">{lane.id}</span>
                <Button look="quiet" aria-pressed={!!lane.muted} onClick={() => change(i, { muted: !lane.muted })}>
                  {lane.muted ? "Unmute" : "Mute"}
                </Button>
                <Button look="quiet" aria-label={`Remove the lane ${lane.id}`} onClick={() => onRemove(lane.id)}>
                  Remove
                </Button>
              </div>
              <ConditionEditor
                label={`Condition of the lane ${lane.id}`}
                value={lane.when ?? ""}
                values={values}
                empty="otherwise"
                onChange={(when) => change(i, { when })}
              />
              {wrong && (
                <p className={`mt-1 text-xs ${wrong.severity === "error" ? "text-brick" : "text-ochre"}`}>
                  {wrong.message}
                </p>
              )}
            </li>
          );
        })}
      </ol>
      <Button className="mt-2" onClick={onAdd}>
        Add a lane
      </Button>
    </Field>
  );
}
