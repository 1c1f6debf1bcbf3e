import { useQuery } from "@tanstack/react-query";
import { useParams } from "react-router";
import * as reads from "../../../../api/reads";
import type { RuleDoc } from "./rules";

/** What approvers change again and again in this line’s drafts, each to be taken as a rule. */
export function Lessons({
  step,
  rules,
  disabled,
  onTake,
}: {
  step: string;
  rules: RuleDoc[];
  disabled: boolean;
  onTake: (rule: RuleDoc) => void;
}) {
  const { id } = useParams();
  const found = useQuery(reads.lessons(Number(id), step));
  const known = new Set(rules.map((rule) => JSON.stringify([rule.rule, rule.words ?? rule.most])));
  const open = (found.data ?? []).filter(
    (one) => !one.rule || !known.has(JSON.stringify([one.rule.rule, one.rule.words ?? one.rule.most])),
  );
  if (!open.length) return null;
  return (
    <section className="mt-3 border-l-2 border-ochre pl-3" aria-label="What approvers change">
      <h4 className="text-xs text-soft">What approvers change again and again</h4>
      <ul>
        {open.map((one) => (
          <li key={one.says} className="flex items-baseline gap-2 py-0.5 text-sm">
            <span className="min-w-0 flex-1">
              {one.says}{" "}
              <span className="text-xs text-soft">
                in {one.count} of {one.of} changed drafts
              </span>
            </span>
            {one.rule && !disabled && (
              <button
                type="button"
                className="shrink-0 text-leaf underline underline-offset-2"
                onClick={() => onTake(one.rule as RuleDoc)}
              >
                Make it a rule
              </button>
            )}
          </li>
        ))}
      </ul>
    </section>
  );
}
