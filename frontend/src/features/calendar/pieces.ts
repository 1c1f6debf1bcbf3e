/** Pieces of the calendar: how their states are said, and how one is moved. */
import { api, type Schemas } from "../../api/client";
import { mutate } from "../../api/mutate";
import { sayError } from "../../components/Toast";

export type OnTime = Schemas["PieceOnTime"];

export const STATE_WORDS: Record<string, string> = {
  sent: "went out",
  queued: "waits",
  going: "is going out",
  held: "is held",
  unsure: "in doubt",
  intent: "is on its way",
  accepted: "was accepted",
};

/** Have a piece go at another time. */
export async function moveTo(piece: Pick<OnTime, "id">, at: number | null) {
  try {
    await mutate(
      api.POST("/api/pieces/{id}/move", { params: { path: { id: piece.id } }, body: { at } }),
      "calendar",
      "today",
    );
  } catch (error) {
    sayError(error);
  }
}
