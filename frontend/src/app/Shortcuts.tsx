import { Button } from "../components/Button";
import { Dialog } from "../components/Dialog";
import { singleKeys, useSingleKeys } from "../components/keys";

const GROUPS: [string, [string, string][]][] = [
  [
    "Everywhere",
    [
      ["1 … 8", "Today, Workflows, Approvals, Calendar, Sheets, Runs, Brands, Connections"],
      ["?", "This sheet"],
      ["Esc", "Close what is open"],
    ],
  ],
  [
    "Workbench",
    [
      ["↑ ↓", "Line above, line below"],
      ["← →", "Sample before, sample after"],
      ["Enter", "Open the bench on this line"],
      ["H", "What this line does, with an example"],
      ["R", "Run this cell, with what it needs first"],
      ["Shift R", "Run this row"],
      ["A", "Run everything out of date"],
      ["F", "Ask again on purpose (fresh)"],
      ["S", "Stop"],
      ["G", "What the step was given, and the prompt sent"],
      ["C", "Compare this cell with another"],
      ["M", "Mute or unmute the line"],
      ["N", "Add a line: say what happens next"],
      ["E", "Say in words what is to change"],
      ["Alt ↑ ↓", "Move the line up or down"],
      ["Alt → ←", "Into the block above, out of its block"],
      ["D", "Duplicate the line"],
      ["Del", "Delete the line"],
      ["Ctrl C V", "Copy the line, paste lines here"],
      ["Ctrl Z", "Undo; with Shift, redo"],
      ["L", "Before it goes live"],
      ["<<", "In a text: the values of earlier steps; Ctrl I shows them as a tree"],
    ],
  ],
  [
    "Workflows",
    [
      ["N", "New workflow"],
      ["/", "Find one by its name"],
      ["↑ ↓", "From one to the next; Enter opens it"],
    ],
  ],
  [
    "Approvals",
    [
      ["A", "Approve"],
      ["B", "Send back with a note"],
      ["D", "Decline"],
      ["E", "Change the text"],
      ["N", "Go on with the next, after sending back"],
      ["Shift A", "In a stack: approve all that keep every rule and have nothing doubtful"],
      ["Y", "Answer yes to a question; Alt 1 … 9 choose one of several"],
      ["J K", "Next, previous"],
    ],
  ],
  [
    "Sheets",
    [
      ["↑ ↓ ← →", "Move; with Shift, choose more; with Ctrl, to the end"],
      ["Enter", "Change the cell; Enter again keeps it, Alt Enter begins a line"],
      ["Esc", "Leave it as it was"],
      ["Shift Enter", "Read the row in full"],
      ["Shift Space", "Choose the row"],
      ["Ctrl C X V", "Copy, cut, paste cells, also from and to a spreadsheet"],
      ["Ctrl D", "Fill down"],
      ["Del", "Empty the chosen cells"],
      ["Ctrl Z", "Undo; with Shift, redo"],
      ["Ctrl F", "Find in the sheet"],
    ],
  ],
];

/** The shortcut sheet. */
export function Shortcuts({ open, onClose }: { open: boolean; onClose: () => void }) {
  const single = useSingleKeys();
  return (
    <Dialog open={open} onClose={onClose} title="Shortcuts" wide>
      <label className="mb-4 flex items-baseline gap-2 text-sm">
        <input
          type="checkbox"
          checked={single}
          onChange={(event) => {
            singleKeys.on = event.target.checked;
          }}
        />
        <span>
          Letters, digits and marks pressed alone do something.{" "}
          <span className="text-soft">
            Turn them off where you speak to your computer; this sheet stays in your menu.
          </span>
        </span>
      </label>
      <div className="grid gap-6 sm:grid-cols-2">
        {GROUPS.map(([name, rows]) => (
          <section key={name}>
            <h3 className="smallcaps mb-1 text-soft">{name}</h3>
            <dl className="grid grid-cols-[5.5rem_1fr] gap-x-3 gap-y-1 text-sm">
              {rows.map(([key, does]) => (
                <div key={key} className="contents">
                  <dt>
                    <kbd className="rounded border border-line bg-sheet px-1.5 font-sans text-xs">{key}</kbd>
                  </dt>
                  <dd>{does}</dd>
                </div>
              ))}
            </dl>
          </section>
        ))}
      </div>
      <Button className="mt-5" onClick={onClose} hint="Esc">
        Close
      </Button>
    </Dialog>
  );
}
