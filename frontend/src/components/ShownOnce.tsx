import { Button } from "./Button";
import { Dialog } from "./Dialog";
import { say, sayError } from "./Toast";

/** A key, or words with one in them, shown now and never again: to be copied before it is closed. */
export function ShownOnce({ about, text, onClose }: { about: string; text: string; onClose: () => void }) {
  return (
    <Dialog open wide onClose={onClose} title="The key" about={`It is shown now and never again. ${about}`}>
      <pre className="rounded bg-shade p-3 font-mono text-sm break-all whitespace-pre-wrap">{text}</pre>
      <div className="mt-5 flex gap-2">
        <Button onClick={() => navigator.clipboard.writeText(text).then(() => say("Copied."), sayError)}>Copy</Button>
        <Button look="main" onClick={onClose}>
          I have it
        </Button>
      </div>
    </Dialog>
  );
}
