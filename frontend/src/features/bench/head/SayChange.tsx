/** Saying in words what is to change on a page, or what happens next: what it would become is shown before it is taken. */
import { useMutation } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";
import { api, type Schemas } from "../../../api/client";
import { mutate } from "../../../api/mutate";
import { Button } from "../../../components/Button";
import { Dialog } from "../../../components/Dialog";
import { Area, Field } from "../../../components/Field";
import { say } from "../../../components/Toast";
import { useModels, WhichModel } from "../../../components/WhichModel";
import { count } from "../../../components/words";
import type { PageDoc } from "../model/document";
import type { usePage } from "../model/page";
import { ChangeList } from "./ChangeList";

type Props = {
  workflow: number;
  page: ReturnType<typeof usePage>;
  /** The line behind which lines are to be put, empty for a change of the page. */
  line?: string;
  /** What was typed already; it is worked out at once. */
  words?: string;
  onClose: () => void;
};

export function SayChange({ workflow, page, line = "", words = "", onClose }: Props) {
  const [told, setTold] = useState(words);
  const [model, setModel] = useState("");
  const models = useModels();
  const asked = useMutation({
    mutationFn: async () => {
      await page.flush();
      const body = { words: told, line, model };
      return mutate(api.POST("/api/workflows/{id}/said", { params: { path: { id: workflow } }, body }), "nothing");
    },
  });
  const begun = useRef(false);
  // biome-ignore lint/correctness/useExhaustiveDependencies: once, as it opens
  useEffect(() => {
    if (words && !begun.current) asked.mutate();
    begun.current = true;
  }, []);

  function take(found: Schemas["SaidView"]) {
    page.edit(() => found.document as PageDoc);
    say(`${count(found.changes.length, "change")} on the page. Ctrl Z takes it back.`);
    onClose();
  }
  const found = asked.data;
  return (
    <Dialog
      open
      wide
      onClose={onClose}
      title={line ? "Say what happens next" : "Say what is to change"}
      about="A model turns it into changes of the page. You see them before anything is changed."
    >
      <form
        className="space-y-3"
        onSubmit={(event) => {
          event.preventDefault();
          asked.mutate();
        }}
      >
        <Field label={line ? "What happens next" : "What is to change"}>
          <Area
            autoFocus
            required
            rows={2}
            minLength={3}
            maxLength={4000}
            disabled={asked.isPending}
            placeholder={
              line ? "Tell the team and mail it to me." : "Also post it to the blog, but without the hashtags."
            }
            value={told}
            onChange={(e) => setTold(e.target.value)}
            onKeyDown={(e) => {
              if (e.key !== "Enter" || e.shiftKey) return;
              e.preventDefault();
              e.currentTarget.form?.requestSubmit();
            }}
          />
        </Field>
        <WhichModel label="Which model" value={model} onChange={setModel} />
        <Button
          look={found?.changes.length ? undefined : "main"}
          type="submit"
          disabled={asked.isPending || !models?.length}
        >
          {asked.isPending ? "The model reads it …" : found ? "Work it out again" : "Work it out"}
        </Button>
      </form>
      <div role="status" className="mt-4">
        {asked.isError && <p className="text-sm text-brick">{(asked.error as Error).message}</p>}
        {found && !asked.isPending && (
          <>
            {found.notes.map((note) => (
              <p key={note} className="mb-2 text-sm text-ochre">
                {note}
              </p>
            ))}
            {found.changes.length > 0 && (
              <>
                <ChangeList changes={found.changes} />
                <div className="mt-3 flex gap-2 border-t border-line pt-3">
                  <Button look="main" onClick={() => take(found)}>
                    {line ? "Put it in" : "Change the page"}
                  </Button>
                  <Button look="quiet" onClick={onClose}>
                    Leave it as it is
                  </Button>
                </div>
              </>
            )}
          </>
        )}
      </div>
    </Dialog>
  );
}
