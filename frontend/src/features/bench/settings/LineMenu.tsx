import { DropdownMenu } from "radix-ui";
import { useState } from "react";
import { Button } from "../../../components/Button";
import { Dialog } from "../../../components/Dialog";
import { Field, Input } from "../../../components/Field";
import type { Commands } from "../model/writing";

const ITEM = "flex cursor-pointer justify-between gap-6 rounded-sm px-3 py-1 outline-none data-[highlighted]:bg-shade";

/** What can be done with the chosen line as a whole. */
export function LineMenu({ line, start, commands }: { line: string; start: boolean; commands: Commands }) {
  const [naming, setNaming] = useState(false);
  const rows: [string, string, () => unknown][] = start
    ? [["Another start …", "", commands.anotherStart]]
    : [
        ["Add a line below …", "N", commands.find],
        ["Move up", "Alt ↑", () => commands.shift("up")],
        ["Move down", "Alt ↓", () => commands.shift("down")],
        ["Into the block above", "Alt →", () => commands.shift("in")],
        ["Out of its block", "Alt ←", () => commands.shift("out")],
        ["Duplicate", "D", commands.duplicate],
        ["Copy as text", "Ctrl C", commands.copy],
        ["Delete", "Del", commands.remove],
      ];
  return (
    <>
      <DropdownMenu.Root>
        <DropdownMenu.Trigger asChild>
          <Button look="quiet">Line …</Button>
        </DropdownMenu.Trigger>
        <DropdownMenu.Portal>
          <DropdownMenu.Content
            align="end"
            className="z-50 min-w-56 rounded-md border border-rule bg-sheet p-1 text-sm text-ink shadow-lg"
            onCloseAutoFocus={(event) => event.preventDefault()}
          >
            {rows.map(([words, key, act]) => (
              <DropdownMenu.Item key={words} className={ITEM} onSelect={act}>
                {words} <span className="text-xs text-soft">{key}</span>
              </DropdownMenu.Item>
            ))}
            <DropdownMenu.Item className={ITEM} onSelect={() => setNaming(true)}>
              Call it something else …
            </DropdownMenu.Item>
          </DropdownMenu.Content>
        </DropdownMenu.Portal>
      </DropdownMenu.Root>
      {naming && <Naming line={line} commands={commands} onClose={() => setNaming(false)} />}
    </>
  );
}

function Naming({ line, commands, onClose }: { line: string; commands: Commands; onClose: () => void }) {
  const [name, setName] = useState(line);
  return (
    <Dialog
      open
      onClose={onClose}
      title="What the line is called"
      about="Texts point at its values by this name; they follow when it changes."
    >
      <form
        onSubmit={(event) => {
          event.preventDefault();
          commands.rename(name);
          onClose();
        }}
      >
        <Field label="Name" help="Small letters, digits and _.">
          <Input autoFocus value={name} maxLength={40} onChange={(e) => setName(e.target.value)} />
        </Field>
        <div className="mt-4 flex gap-2">
          <Button look="main" type="submit">
            Keep
          </Button>
          <Button look="quiet" onClick={onClose}>
            Leave it
          </Button>
        </div>
      </form>
    </Dialog>
  );
}
