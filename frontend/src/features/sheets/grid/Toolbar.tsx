import { useQuery } from "@tanstack/react-query";
import type { Ref } from "react";
import type { Schemas } from "../../../api/client";
import * as reads from "../../../api/reads";
import { Button } from "../../../components/Button";
import { Choice, Input } from "../../../components/Field";
import { Item, LinkItem, Menu, MenuHead } from "../../../components/Menu";
import { useHome } from "../../../components/Whose";
import { count, longDay } from "../../../components/words";
import { BringIn } from "../BringIn";
import { Filter } from "../Filter";
import { isNarrowed, type Shown } from "../model/shown";
import type { Other } from "../model/useOthers";
import type { Writing } from "../model/useWriting";
import { Views } from "./Views";

/** What stands open over a sheet. */
export type Opened = "columns" | "list" | "send" | "removed" | "keys" | "whose" | "delete";

/** So many rows can be chosen at once. */
const MOST = 5000;

/** What is above a grid: how it is looked at, what may be done, who else is here, and how long a list of topics lasts. */
export function Toolbar({
  sheet,
  maker,
  shown,
  view,
  total,
  picked,
  others,
  writing,
  find,
  onShow,
  onView,
  onOpen,
  onPickNone,
  onPickAll,
  onRemove,
}: {
  sheet: Schemas["SheetView"];
  maker: boolean;
  shown: Shown;
  view: string;
  total: number;
  picked: number;
  others: Other[];
  writing: Writing;
  find: Ref<HTMLInputElement>;
  onShow: (shown: Shown) => void;
  onView: (name: string, shown: Shown) => void;
  onOpen: (what: Opened) => void;
  onPickNone: () => void;
  onPickAll: () => void;
  onRemove: () => void;
}) {
  const { kept } = useHome();
  const takers = useQuery(reads.takers(sheet.key));
  const lists = (takers.data ?? []).filter((one) => one.left !== null || one.paced > 0);
  return (
    <div className="px-5 py-2">
      <div className="flex flex-wrap items-center gap-x-2 gap-y-1">
        <Views sheet={sheet.key} columns={sheet.columns} shown={shown} name={view} maker={maker} onChoose={onView} />
        <Input
          ref={find}
          aria-label="Find in this sheet"
          placeholder="Find in this sheet"
          className="!w-44"
          value={shown.words}
          onChange={(e) => onShow({ ...shown, words: e.target.value })}
        />
        <span className="text-xs text-soft">
          {isNarrowed(shown) ? `${total.toLocaleString()} of ${count(sheet.rows, "row")}` : count(total, "row")}
        </span>
        <Filter columns={sheet.columns} conditions={shown.where} onChange={(where) => onShow({ ...shown, where })} />
        <span className="flex items-center gap-1 text-xs text-soft">
          In groups by
          <Choice
            aria-label="In groups by"
            className="!w-28 !py-0.5 text-xs"
            value={shown.group}
            onChange={(e) => onShow({ ...shown, group: e.target.value })}
          >
            <option value="">no column</option>
            {sheet.columns.map((c) => (
              <option key={c.name}>{c.name}</option>
            ))}
          </Choice>
        </span>
        {shown.hidden.length > 0 && (
          <Button look="quiet" className="!px-1 text-xs" onClick={() => onShow({ ...shown, hidden: [] })}>
            Show {count(shown.hidden.length, "hidden column")}
          </Button>
        )}
        <span className="ml-auto" />
        {others.length > 0 && (
          <span className="text-xs text-ochre" title={others.map((one) => one.name).join(", ")}>
            {others.length === 1 ? `${others[0]!.name} is here too` : `${others.length} others are here`}
          </span>
        )}
        {maker && picked > 0 && (
          <>
            <Button onClick={() => onOpen("send")}>Send {count(picked, "row")} through …</Button>
            <Button look="quiet" onClick={onRemove}>
              Remove them
            </Button>
            {picked < total && (
              <Button look="quiet" onClick={onPickAll}>
                {total > MOST ? `Choose the first ${MOST.toLocaleString()}` : `Choose all ${total.toLocaleString()}`}
              </Button>
            )}
            <Button look="quiet" onClick={onPickNone}>
              Choose none
            </Button>
          </>
        )}
        {maker && (
          <>
            <Button look="quiet" disabled={!writing.undo} title="Ctrl Z" onClick={writing.undo}>
              Undo
            </Button>
            <Button look="quiet" disabled={!writing.redo} title="Shift Ctrl Z" onClick={writing.redo}>
              Redo
            </Button>
            <Button onClick={() => writing.write([], [{}])}>Add a row</Button>
            <BringIn into={sheet.key}>Bring in …</BringIn>
          </>
        )}
        <Menu opens={<Button look="quiet">More …</Button>}>
          <MenuHead>Take it out</MenuHead>
          {["CSV", "XLSX", "ODS"].map((kind) => (
            <LinkItem key={kind}>
              <a href={`/api/sheets/${sheet.key}/file/${kind.toLowerCase()}`} download>
                As {kind}
              </a>
            </LinkItem>
          ))}
          {maker && (
            <>
              <MenuHead>The sheet</MenuHead>
              <Item onSelect={() => onOpen("columns")}>Columns …</Item>
              <Item onSelect={() => onOpen("list")}>List of readers …</Item>
              <Item onSelect={() => onOpen("keys")}>For other programs …</Item>
              <Item onSelect={() => onOpen("removed")}>Removed rows …</Item>
              {!kept && <Item onSelect={() => onOpen("whose")}>Whose it is …</Item>}
              <Item onSelect={() => onOpen("delete")}>Delete …</Item>
            </>
          )}
        </Menu>
      </div>
      {lists.map((one) => (
        <p key={one.id} className="pt-1 text-xs text-soft">
          <a href={`/workflows/${one.id}`} className="text-leaf underline underline-offset-2">
            {one.name}
          </a>
          : {one.left !== null && leftInWords(one.left, one.until)}
          {one.paced > 0 && ` ${count(one.paced, "chosen row")} wait to be sent through day by day.`}
        </p>
      ))}
    </div>
  );
}

function leftInWords(left: number, until: number | null): string {
  if (left === 0) return "no unused row is left. Add rows.";
  const last = until ? ` They last until ${longDay(until)}.` : "";
  return `${count(left, "unused row")} left.${last}`;
}
