import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api } from "../../../api/client";
import { mutate } from "../../../api/mutate";
import * as reads from "../../../api/reads";
import { Button } from "../../../components/Button";
import { Dialog } from "../../../components/Dialog";
import { Field, Input } from "../../../components/Field";
import { Item, Menu, MenuHead } from "../../../components/Menu";
import { say, sayError } from "../../../components/Toast";
import { type Column, plain, type Shown, standing } from "../model/shown";

/** The ways of looking at a sheet that have a name: chosen, kept, taken away. */
export function Views({
  sheet,
  columns,
  shown,
  name,
  maker,
  onChoose,
}: {
  sheet: string;
  columns: Column[];
  shown: Shown;
  /** The view that was chosen; empty: none. */
  name: string;
  maker: boolean;
  onChoose: (name: string, shown: Shown) => void;
}) {
  const views = useQuery(reads.sheetViews(sheet));
  const [naming, setNaming] = useState(false);
  const list = views.data ?? [];
  const current = list.find((view) => view.name === name);
  const changed = JSON.stringify(standing(current?.shows ?? {}, columns)) !== JSON.stringify(shown);

  async function keep(as: string) {
    try {
      const path = { params: { path: { key: sheet } } };
      await mutate(api.POST("/api/sheets/{key}/views", { ...path, body: { name: as, shows: shown } }), [
        "sheet",
        sheet,
        "views",
      ]);
      onChoose(as, shown);
      say(`Kept as “${as}”.`);
      return true;
    } catch (error) {
      sayError(error);
      return false;
    }
  }

  async function forget() {
    if (!current) return;
    try {
      const path = { params: { path: { key: sheet, id: current.id } } };
      await mutate(api.DELETE("/api/sheets/{key}/views/{id}", path), ["sheet", sheet, "views"]);
      onChoose("", standing(plain, columns));
    } catch (error) {
      sayError(error);
    }
  }

  return (
    <>
      <Menu
        opens={
          <Button look="quiet" aria-label={`View: ${name || "the whole sheet"}`}>
            {name || "The whole sheet"}
            {changed && <span className="text-xs text-soft">changed</span>} <span aria-hidden>▾</span>
          </Button>
        }
      >
        <Item onSelect={() => onChoose("", standing(plain, columns))}>The whole sheet</Item>
        {list.length > 0 && <MenuHead>Views</MenuHead>}
        {list.map((view) => (
          <Item key={view.id} onSelect={() => onChoose(view.name, standing(view.shows, columns))}>
            {view.name} {view.name === name && <span aria-hidden>✓</span>}
          </Item>
        ))}
        {maker && (
          <>
            <MenuHead>This view</MenuHead>
            {current && changed && <Item onSelect={() => keep(current.name)}>Keep the changes</Item>}
            <Item onSelect={() => setNaming(true)}>Keep it under a name …</Item>
            {current && (
              <Item grave onSelect={forget}>
                Take “{current.name}” away
              </Item>
            )}
          </>
        )}
      </Menu>
      {naming && <Naming onKeep={keep} onClose={() => setNaming(false)} />}
    </>
  );
}

function Naming({ onKeep, onClose }: { onKeep: (name: string) => Promise<boolean>; onClose: () => void }) {
  const [name, setName] = useState("");
  return (
    <Dialog
      open
      onClose={onClose}
      title="Keep this view"
      about="What is found, the conditions, order, groups, columns and what stands under them; for everybody here."
    >
      <form
        className="space-y-3"
        onSubmit={async (event) => {
          event.preventDefault();
          if (await onKeep(name.trim())) onClose();
        }}
      >
        <Field label="Name">
          <Input autoFocus maxLength={80} value={name} onChange={(e) => setName(e.target.value)} />
        </Field>
        <Button look="main" type="submit" disabled={!name.trim()}>
          Keep it
        </Button>
      </form>
    </Dialog>
  );
}
