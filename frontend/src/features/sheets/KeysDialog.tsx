import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, type Schemas } from "../../api/client";
import { mutate } from "../../api/mutate";
import * as reads from "../../api/reads";
import { Button } from "../../components/Button";
import { Copied } from "../../components/Copied";
import { Dialog } from "../../components/Dialog";
import { Choice, Field, Input } from "../../components/Field";
import { Failed, Loading } from "../../components/Quiet";
import { Sure } from "../../components/Sure";
import { sayError } from "../../components/Toast";
import { when } from "../../components/words";

type Key = Schemas["KeyView"];

/** Keys by which other programs read a sheet, or write into it; each is shown once, and can be taken away. */
export function KeysDialog({ sheet, onClose }: { sheet: Schemas["SheetView"]; onClose: () => void }) {
  const keys = useQuery(reads.sheetKeys(sheet.key));
  const [name, setName] = useState("");
  const [may, setMay] = useState<Key["may"]>("read");
  const [made, setMade] = useState<Key | null>(null);
  const path = { params: { path: { key: sheet.key } } };

  async function make() {
    try {
      setMade(
        await mutate(api.POST("/api/sheets/{key}/keys", { ...path, body: { name, may } }), [
          "sheet",
          sheet.key,
          "keys",
        ]),
      );
      setName("");
    } catch (error) {
      sayError(error);
    }
  }

  async function takeAway(id: string) {
    try {
      const one = { params: { path: { key: sheet.key, id } } };
      await mutate(api.DELETE("/api/sheets/{key}/keys/{id}", one), ["sheet", sheet.key, "keys"]);
      if (made?.id === id) setMade(null);
    } catch (error) {
      sayError(error);
    }
  }

  return (
    <Dialog
      open
      wide
      onClose={onClose}
      title={`“${sheet.name}” for other programs`}
      about="Whoever has a key reaches this sheet and nothing else here. What a key writes stands in the rows’ history."
    >
      {keys.isPending ? (
        <Loading what="Looking them up …" />
      ) : keys.isError ? (
        <Failed error={keys.error} again={() => keys.refetch()} />
      ) : (
        <ul className="divide-y divide-line text-sm">
          {keys.data.map((key) => (
            <li key={key.id} className="flex items-baseline gap-3 py-1.5">
              <span className="min-w-0 flex-1 truncate">
                {key.name} <span className="text-soft">· {key.may === "write" ? "reads and writes" : "reads"}</span>
              </span>
              <span className="text-xs text-soft">
                {key.made_by}, {when(key.made_at)} · {key.used_at ? `last used ${when(key.used_at)}` : "not used yet"}
              </span>
              <Sure
                question={`Take the key of ${key.name} away?`}
                lost="It reaches this sheet no more, and the same key cannot be given again."
                yes="Take it away"
                onYes={() => takeAway(key.id)}
              >
                Take it away …
              </Sure>
            </li>
          ))}
          {keys.data.length === 0 && <li className="py-1.5 text-soft">No program has a key yet.</li>}
        </ul>
      )}
      {made && (
        <div className="mt-3 space-y-2 rounded border border-leaf bg-leafwash p-3 text-sm">
          <p>Copy it now; it is not shown again.</p>
          {made.may === "read" ? (
            <>
              <Copied label="As CSV, for a spreadsheet or a program" text={made.csv} />
              <Copied label="As JSON" text={made.json_address} />
            </>
          ) : (
            <>
              <Copied label="The key, as “Authorization: Bearer …”" text={made.token} />
              <Copied label="Where rows are sent (POST; see the reference)" text={made.write_address} />
            </>
          )}
        </div>
      )}
      <form
        className="mt-4 flex flex-wrap items-end gap-2"
        onSubmit={(event) => {
          event.preventDefault();
          make();
        }}
      >
        <div className="w-56">
          <Field label="What it is for">
            <Input value={name} maxLength={80} onChange={(e) => setName(e.target.value)} />
          </Field>
        </div>
        <div className="w-48">
          <Field label="It may">
            <Choice value={may} onChange={(e) => setMay(e.target.value as Key["may"])}>
              <option value="read">read the sheet</option>
              <option value="write">add and change rows</option>
            </Choice>
          </Field>
        </div>
        <Button look="main" type="submit" disabled={!name.trim()}>
          Make a key
        </Button>
        <a href="/api/" target="_blank" rel="noreferrer" className="text-xs text-leaf underline underline-offset-2">
          Reference
        </a>
      </form>
    </Dialog>
  );
}
