import { Button } from "./Button";
import { Field, Input } from "./Field";
import { say } from "./Toast";

/** A text to be taken along: an address, a key. */
export function Copied({ label, text }: { label: string; text: string }) {
  return (
    <div className="flex items-end gap-2">
      <div className="min-w-0 flex-1">
        <Field label={label}>
          <Input readOnly value={text} onFocus={(e) => e.target.select()} />
        </Field>
      </div>
      <Button
        onClick={() =>
          navigator.clipboard.writeText(text).then(
            () => say("Copied."),
            () => say("Your browser does not let pages copy; select it and copy it yourself."),
          )
        }
      >
        Copy
      </Button>
    </div>
  );
}
