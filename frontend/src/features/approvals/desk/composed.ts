import type { Schemas } from "../../../api/client";

export type Composed = Schemas["ComposedView"];

/** Whether one post goes out, its text is the draft as it stands, and nothing goes along with it. */
export function isDraftItself(pieces: readonly Composed[], text: string) {
  const plain = pieces[0]?.piece?.piece;
  return (
    pieces.length === 1 &&
    plain?.form === "post" &&
    plain.text === text.trim() &&
    !(plain.pictures.length || plain.tags.length || plain.answers || plain.also.length)
  );
}
