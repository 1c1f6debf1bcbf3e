/** What of a piece no draft wrote: its title or subject, its tags, which pictures in what order, its button, and when it goes. */
import { useState } from "react";
import { useKept } from "../../../api/files";
import { Choice, Field, Input } from "../../../components/Field";
import { forField } from "../../../components/words";
import type { Composed } from "./composed";
import { toggled } from "./pictures";

type Given = Record<string, unknown>;

export function PieceParts({
  one,
  first,
  given,
  named,
  set,
}: {
  one: Composed;
  /** Whether there are several pieces, so that it must be said whose parts these are. */
  named: boolean;
  /** The piece as it was made, before anything was changed: pictures are chosen of those it has. */
  first: Composed | undefined;
  given: Given;
  set: (given: Given) => void;
}) {
  const [open, setOpen] = useState(false);
  const kept = useKept();
  const piece = first?.piece?.piece as unknown as Record<string, unknown> | undefined;
  if (!piece || !one.changeable.length) return null;
  const put = (name: string, value: unknown) => set({ ...given, [name]: value });
  const value = (name: string) => (name in given ? given[name] : piece[name]);
  const pictures = (piece.pictures ?? []) as { link: string; words: string; name: string }[];
  const chosen = (given.pictures as number[] | undefined) ?? pictures.map((_, n) => n + 1);
  const buttons = one.piece?.takes.buttons ?? [];
  return (
    <div className="mt-2">
      <button
        type="button"
        aria-expanded={open}
        className="text-xs text-soft underline underline-offset-2"
        onClick={() => setOpen(!open)}
      >
        {open ? "Done with its parts" : `Change ${words(one.changeable, pictures.length)}`}
        {named && ` (${one.piece?.channel || one.title})`}
      </button>
      {open && (
        <div className="mt-2 max-w-md space-y-3">
          {(["title", "subject"] as const)
            .filter((name) => one.changeable.includes(name))
            .map((name) => (
              <Field key={name} label={name === "title" ? "Title" : "Subject"}>
                <Input value={String(value(name) ?? "")} onChange={(e) => put(name, e.target.value)} />
              </Field>
            ))}
          {(["tags", "categories"] as const)
            .filter((name) => one.changeable.includes(name))
            .map((name) => (
              <Field key={name} label={name === "tags" ? "Tags" : "Categories"} help="Parted by commas.">
                <Input
                  value={((value(name) as string[]) ?? []).join(", ")}
                  onChange={(e) =>
                    put(
                      name,
                      e.target.value.split(",").map((word) => word.trimStart()),
                    )
                  }
                />
              </Field>
            ))}
          {one.changeable.includes("button") && (
            <Field label="Button">
              {buttons.length ? (
                <Choice value={String(value("button") ?? "")} onChange={(e) => put("button", e.target.value)}>
                  {[...new Set(["", ...buttons, String(value("button") ?? "")])].map((word) => (
                    <option key={word} value={word}>
                      {word || "no button"}
                    </option>
                  ))}
                </Choice>
              ) : (
                <Input value={String(value("button") ?? "")} onChange={(e) => put("button", e.target.value)} />
              )}
            </Field>
          )}
          {one.changeable.includes("link") && (
            <Field label="Where it leads">
              <Input value={String(value("link") ?? "")} onChange={(e) => put("link", e.target.value)} />
            </Field>
          )}
          {one.changeable.includes("pictures") && pictures.length > 0 && (
            <Field group label="Pictures, in the order they are pressed">
              <div className="flex flex-wrap gap-2">
                {pictures.map((picture, n) => {
                  const at = chosen.indexOf(n + 1);
                  return (
                    <button
                      key={picture.link}
                      type="button"
                      aria-pressed={at >= 0}
                      onClick={() => put("pictures", toggled(chosen, n + 1))}
                      className={`rounded border p-1 text-xs ${at >= 0 ? "border-leaf" : "border-line opacity-60"}`}
                    >
                      <img
                        src={kept(picture.link)}
                        alt={picture.words || picture.name || `Picture ${n + 1}`}
                        className="h-20 max-w-40 object-contain"
                      />
                      {at >= 0 ? `● ${at + 1}` : "○ left out"}
                    </button>
                  );
                })}
              </div>
            </Field>
          )}
          <Field label="Goes at" help="Empty: as its line says.">
            <Input
              type="datetime-local"
              value={forField(given.goes as number | undefined, 16)}
              onChange={(e) => put("goes", e.target.value ? new Date(e.target.value).getTime() / 1000 : null)}
            />
          </Field>
        </div>
      )}
    </div>
  );
}

function words(changeable: readonly string[], pictures: number): string {
  const names: Record<string, string> = {
    title: "title",
    subject: "subject",
    tags: "tags",
    categories: "categories",
    button: "button",
    goes: "time",
  };
  const said = changeable.filter((name) => name in names).map((name) => names[name]!);
  if (pictures) said.splice(said.length - 1, 0, "pictures");
  return said.length > 1 ? `${said.slice(0, -1).join(", ")} or ${said.at(-1)}` : (said[0] ?? "");
}
