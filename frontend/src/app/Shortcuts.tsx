import { useLocation } from "react-router";
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
    "On this line",
    [
      ["Enter", "Open the bench on it"],
      ["H", "What it does, with an example"],
      ["R", "Run this cell, with what it needs first; with Shift, the row"],
      ["F", "Ask again on purpose (fresh)"],
      ["G", "What it was given, and the prompt sent"],
      ["C", "Compare this cell with another"],
      ["M", "Mute or unmute it"],
      ["Alt ↑ ↓", "Move it up or down"],
      ["Alt → ←", "Into the block above, out of its block"],
      ["D", "Duplicate it"],
      ["Del", "Delete it"],
      ["Ctrl C V", "Copy it, paste lines here"],
      ["<<", "In a text: the values of earlier lines; Ctrl I shows them as a tree"],
    ],
  ],
  [
    "On the page",
    [
      ["N", "Add a line: say what happens next"],
      ["E", "Say in words what is to change"],
      ["↑ ↓", "Line above, line below"],
      ["← →", "Sample before, sample after"],
      ["A", "Run everything out of date"],
      ["S", "Stop"],
      ["L", "Before it goes live"],
      ["Ctrl Z", "Undo; with Shift, redo"],
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

/** Where one is, and what works there: that stands first. */
const PLACES: [RegExp, string[]][] = [
  [/^\/workflows\/\d/, ["On this line", "On the page"]],
  [/^\/workflows/, ["Workflows"]],
  [/^\/approvals/, ["Approvals"]],
  [/^\/sheets/, ["Sheets"]],
];

/** The shortcut sheet: what works where one is comes first. */
export function Shortcuts({ open, onClose }: { open: boolean; onClose: () => void }) {
  const single = useSingleKeys();
  const { pathname } = useLocation();
  const here = PLACES.find(([path]) => path.test(pathname))?.[1] ?? [];
  const groups = [...GROUPS].sort((a, b) => Number(here.includes(b[0])) - Number(here.includes(a[0])));
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
        {groups.map(([name, rows]) => (
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
