import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, type Schemas } from "../../api/client";
import { mutate } from "../../api/mutate";
import * as reads from "../../api/reads";
import { may, useSession } from "../../app/session";
import { Button } from "../../components/Button";
import { Dialog } from "../../components/Dialog";
import { Area, Choice, Field, Input } from "../../components/Field";
import { when } from "../../components/words";

type Sheet = Schemas["SheetView"];
type Known = Schemas["ListView"];

const guess = (names: string[], words: string[]) => names.find((name) => words.includes(name.toLowerCase())) ?? "";

/** A sheet as a list of readers: its columns, whether one may join by a page, where bounces come to, and who left. */
export function ListDialog({ sheet, onClose }: { sheet: Sheet; onClose: () => void }) {
  const lists = useQuery(reads.lists());
  return (
    <Dialog
      open
      onClose={onClose}
      title={`${sheet.name} as a list of readers`}
      about="A mailing sends one letter to each row. Whoever leaves or cannot be reached is marked here, and gets no mailing any more."
    >
      {lists.data && <Kept sheet={sheet} known={lists.data.find((one) => one.sheet === sheet.key)} onClose={onClose} />}
      <Leavers />
    </Dialog>
  );
}

function Kept({ sheet, known, onClose }: { sheet: Sheet; known?: Known; onClose: () => void }) {
  const names = sheet.columns.map((column) => column.name);
  const [list, setList] = useState({
    address: known?.address || guess(names, ["email", "e-mail", "mail", "address"]),
    state: known?.state || guess(names, ["state", "status"]),
    open: !!known?.join,
    server: known?.server ?? "",
    mailbox: known?.mailbox ?? "",
    words: known?.words ?? "",
  });
  const connections = useQuery(reads.connections());
  const [wrong, setWrong] = useState("");
  const [join, setJoin] = useState(known?.join ?? "");
  const set = (part: Partial<typeof list>) => setList({ ...list, ...part });
  const of = (kind: string) => connections.data?.connections.filter((one) => one.kind === kind) ?? [];

  async function keep() {
    setWrong("");
    try {
      const view = await mutate(
        api.PUT("/api/lists/{key}", { params: { path: { key: sheet.key } }, body: list }),
        "lists",
      );
      setJoin(view.join);
      if (!list.open) onClose();
    } catch (error) {
      setWrong((error as Error).message);
    }
  }

  return (
    <form
      className="space-y-3"
      onSubmit={(e) => {
        e.preventDefault();
        keep();
      }}
    >
      <div className="grid gap-3 sm:grid-cols-2">
        <Field label="Column with the address">
          <Columns names={names} value={list.address} onChange={(address) => set({ address })} />
        </Field>
        <Field label="Column with the state" help="“left”, “bounced” and “joined” are written there.">
          <Columns names={names} value={list.state} onChange={(state) => set({ state })} />
        </Field>
      </div>
      <Field
        label="Letters that could not be delivered come to"
        help={known?.wrong || "Reports of mail servers in this mailbox are read every minute."}
      >
        <Choice value={list.mailbox} onChange={(e) => set({ mailbox: e.target.value })}>
          <option value="">no mailbox</option>
          {of("mailbox").map((one) => (
            <option key={one.key} value={one.key}>
              {one.name}
            </option>
          ))}
        </Choice>
      </Field>
      <label className="flex items-baseline gap-2 text-sm">
        <input type="checkbox" checked={list.open} onChange={(e) => set({ open: e.target.checked })} />
        People may join by a page; each is asked back by mail first
      </label>
      {list.open && (
        <div className="space-y-3 border-l-2 border-line pl-3">
          <Field label="The mail that asks back goes through">
            <Choice value={list.server} onChange={(e) => set({ server: e.target.value })}>
              <option value="">choose a mail server</option>
              {of("mail").map((one) => (
                <option key={one.key} value={one.key}>
                  {one.name}
                </option>
              ))}
            </Choice>
          </Field>
          <Field label="What the page says" help="What readers get, and how often. May be empty.">
            <Area rows={2} value={list.words} onChange={(e) => set({ words: e.target.value })} />
          </Field>
          {join && (
            <Field label="Its address">
              <Input readOnly value={join} onFocus={(e) => e.target.select()} />
            </Field>
          )}
        </div>
      )}
      {wrong && (
        <p role="alert" className="text-sm text-brick">
          {wrong}
        </p>
      )}
      <Button look="main" type="submit" disabled={!list.address}>
        Keep
      </Button>
    </form>
  );
}

function Columns({
  names,
  value,
  onChange,
  ...tied
}: {
  names: string[];
  value: string;
  onChange: (v: string) => void;
}) {
  return (
    <Choice {...tied} value={value} onChange={(e) => onChange(e.target.value)}>
      <option value="">none</option>
      {names.map((name) => (
        <option key={name}>{name}</option>
      ))}
    </Choice>
  );
}

/** Who gets no mailing any more, of whatever list. */
function Leavers() {
  const { data: session } = useSession();
  const [find, setFind] = useState("");
  const found = useQuery({ ...reads.leavers(find), enabled: may(session, "maker") });
  if (!found.data || (found.data.count === 0 && !find)) return null;
  return (
    <section className="mt-5 border-t border-line pt-3" aria-labelledby="leavers">
      <div className="mb-1 flex items-baseline gap-3">
        <h3 id="leavers" className="smallcaps text-soft">
          Gone from all lists · {found.data.count.toLocaleString("en")}
        </h3>
        <Input
          aria-label="Find an address"
          placeholder="Find an address"
          className="!ml-auto !w-44"
          value={find}
          onChange={(e) => setFind(e.target.value)}
        />
      </div>
      <ul className="max-h-56 divide-y divide-line overflow-y-auto text-sm">
        {found.data.leavers.map((one) => (
          <li key={one.address} className="flex items-baseline gap-3 py-1">
            <span className="[overflow-wrap:anywhere]">
              {one.address.startsWith("#") ? "somebody who was removed" : one.address}
            </span>
            <span className="text-soft">
              {one.why === "bounced" ? "could not be reached" : `left${one.mailing && ` by “${one.mailing}”`}`},{" "}
              {when(one.at)}
            </span>
            {may(session, "owner") && (
              <Button
                look="quiet"
                className="ml-auto"
                onClick={() =>
                  mutate(
                    api.DELETE("/api/leavers/{address}", { params: { path: { address: one.address } } }),
                    "lists",
                    "sheet",
                  )
                }
              >
                Write to them again
              </Button>
            )}
          </li>
        ))}
      </ul>
    </section>
  );
}
