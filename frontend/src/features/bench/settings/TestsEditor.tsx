import { useQuery } from "@tanstack/react-query";
import { useParams } from "react-router";
import type { Schemas } from "../../../api/client";
import * as reads from "../../../api/reads";
import { Button } from "../../../components/Button";
import { Choice } from "../../../components/Field";
import { ConditionEditor } from "./ConditionEditor";

export type PromptTest = { sample?: string; holds: string };

/** What must hold of a draft, for a sample or for every item: a condition each. */
export function TestsEditor({
  label,
  help,
  tests,
  own,
  values,
  wrong,
  onChange,
}: {
  label: string;
  help?: string;
  tests: PromptTest[];
  /** What the line gives. */
  own: Schemas["ValueView"][];
  values: Schemas["ValueView"][];
  wrong: string[];
  onChange: (tests: PromptTest[]) => void;
}) {
  const { id } = useParams();
  const bench = useQuery(reads.bench(Number(id)));
  const change = (i: number, part: Partial<PromptTest>) =>
    onChange(tests.map((one, j) => (j === i ? { ...one, ...part } : one)));
  const labels = [...new Set((bench.data?.samples ?? []).map((sample) => sample.label))];
  return (
    <div>
      <div className="mb-0.5 text-xs text-soft">{label}</div>
      <ul>
        {tests.map((test, i) => (
          <li key={`${i} ${tests.length}`} className="border-t border-line py-1.5 text-sm">
            <div className="flex items-center gap-1.5">
              <span>For</span>
              <Choice
                aria-label="For which sample"
                className="min-w-0 flex-1"
                value={test.sample ?? ""}
                onChange={(e) => change(i, { sample: e.target.value })}
              >
                <option value="">every item</option>
                {labels.map((one) => (
                  <option key={one}>{one}</option>
                ))}
                {test.sample && !labels.includes(test.sample) && (
                  <option value={test.sample}>{test.sample} (no such sample)</option>
                )}
              </Choice>
              <span>must hold</span>
              <Button
                look="quiet"
                aria-label="Remove this test"
                onClick={() => onChange(tests.filter((_, j) => j !== i))}
              >
                Remove
              </Button>
            </div>
            <ConditionEditor
              label={`What must hold, test ${i + 1}`}
              value={test.holds}
              values={[...own, ...values]}
              onChange={(holds) => change(i, { holds })}
            />
          </li>
        ))}
      </ul>
      {wrong.map((words) => (
        <p key={words} className="mt-1 text-xs text-brick">
          {words}
        </p>
      ))}
      <Button className="mt-1" onClick={() => onChange([...tests, { sample: "", holds: "text is not empty" }])}>
        Add a test
      </Button>
      {help && <p className="mt-0.5 text-xs text-soft">{help}</p>}
    </div>
  );
}
