import { describe, expect, it } from "vitest";
import type { Cell } from "../../../api/client";
import { cellKey, laidOver, underWay } from "./cells";

const cell = (step: string, state: Cell["state"], sample = 1) => ({ step, sample, state, brief: step }) as Cell;
const none = new Map<string, Partial<Cell>>();

describe("cells", () => {
  it("stand as they are where nothing is under way and nothing was changed", () => {
    const cells = [cell("a", "fresh"), cell("b", "empty")];
    const out = laidOver(cells, none, new Set());
    expect(out.get("a:1")).toBe(cells[0]);
    expect(out.get("b:1")).toBe(cells[1]);
  });

  it("are out of date at once where their line was changed, if they said anything", () => {
    const out = laidOver([cell("a", "fresh"), cell("b", "failed"), cell("c", "empty")], none, new Set(["a", "b", "c"]));
    expect([...out.values()].map((c) => c.state)).toEqual(["stale", "stale", "empty"]);
  });

  it("show what is being written over what stood there, and keep the rest of it", () => {
    const running = new Map([[cellKey("a", 2), underWay({ text: "So far" } as never)]]);
    const out = laidOver([cell("a", "stale", 1), cell("a", "stale", 2)], running, new Set());
    expect(out.get("a:2")).toMatchObject({ state: "running", partial: "So far", brief: "a" });
    expect(out.get("a:1")?.state).toBe("stale");
  });

  it("of blocks count what is done and what is at work", () => {
    expect(underWay({ done: 3, at_work: 2 } as never)).toMatchObject({ count: 5, counts: { fresh: 3, running: 2 } });
    expect(underWay({} as never)).not.toHaveProperty("counts");
  });
});
