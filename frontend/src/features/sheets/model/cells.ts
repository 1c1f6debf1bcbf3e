/** What a cell says. */
import type { Row } from "./useRows";

export const cellText = (row: Row | undefined, name: string | undefined) => String((name && row?.cells[name]) ?? "");
