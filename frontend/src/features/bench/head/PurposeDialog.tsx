import { Button } from "../../../components/Button";
import { Dialog } from "../../../components/Dialog";
import { Area, Field } from "../../../components/Field";
import type { usePage } from "../model/page";

/** What the page is for, told to whoever may run it: an assignment of the house, and assistants outside where it is offered. */
export function PurposeDialog({ page, onClose }: { page: ReturnType<typeof usePage>; onClose: () => void }) {
  const doc = page.doc as { purpose?: string; offered?: boolean };
  return (
    <Dialog
      open
      onClose={onClose}
      title="What it is for"
      about="Assistants choose by these words whether to run it. It counts from the next time the page is made live."
    >
      <div className="space-y-4">
        <Field
          label="In a sentence"
          help="What one gives it and what comes back, such as “Drafts three headlines for a topic.”"
        >
          <Area
            autoFocus
            rows={3}
            maxLength={500}
            value={doc.purpose ?? ""}
            onChange={(e) => page.edit((before) => ({ ...before, purpose: e.target.value }))}
          />
        </Field>
        <label className="flex items-start gap-2 text-sm">
          <input
            type="checkbox"
            className="mt-0.5"
            checked={doc.offered ?? false}
            onChange={(e) => page.edit((before) => ({ ...before, offered: e.target.checked }))}
          />
          <span>
            Assistants outside may run it
            <span className="block text-xs text-soft">
              Those with a key (under Connections), over the Model Context Protocol. The page has to begin by hand or by
              a form; its approvals and limits hold as ever.
            </span>
          </span>
        </label>
        <Button look="main" onClick={onClose}>
          Done
        </Button>
      </div>
    </Dialog>
  );
}
