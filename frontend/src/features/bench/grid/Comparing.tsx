import type { Result } from "../../../api/client";

/** A cell set aside as it was, for others, or itself after an edit, to be compared with. */
export type Aside = { step: string; sample: number; name: string; result: Result };

/** Whether `here` is something else than what was set aside. */
export const differs = (aside: Aside, here: Aside) =>
  aside.step !== here.step || aside.sample !== here.sample || aside.result.at !== here.result.at;

/** The line over the reader that says what is compared, or offers it. */
export function Comparing({
  aside,
  here,
  onAside,
}: {
  aside: Aside | null;
  here: Aside;
  onAside: (aside: Aside | null) => void;
}) {
  return (
    <p className="mb-2 flex items-baseline gap-2 text-xs text-soft">
      {aside && (
        <span className="min-w-0">
          {differs(aside, here)
            ? `Compared with ${aside.name}.`
            : "Set aside. Choose another cell, or change the line and run it again, to compare."}
        </span>
      )}
      <button
        type="button"
        className="ml-auto shrink-0 text-leaf underline underline-offset-2"
        onClick={() => onAside(aside ? null : here)}
      >
        {aside ? "End comparing" : "Compare"} <kbd className="font-sans text-soft">C</kbd>
      </button>
    </p>
  );
}
