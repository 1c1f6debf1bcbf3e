import { describe, expect, it } from "vitest";
import { History } from "./history";

describe("undo and redo", () => {
  it("go back and on through every change", () => {
    const history = new History<string>();
    history.keep("a", "one", 0);
    history.keep("b", "two", 10);
    expect(history.undo("c")).toBe("b");
    expect(history.undo("b")).toBe("a");
    expect(history.undo("a")).toBeNull();
    expect(history.redo("a")).toBe("b");
    expect(history.redo("b")).toBe("c");
    expect(history.redo("c")).toBeNull();
  });

  it("count typing in one line without a pause as one change, and none that has no name", () => {
    const history = new History<string>();
    history.keep("", "line", 0);
    history.keep("h", "line", 100);
    history.keep("he", "line", 1500);
    expect(history.steps).toEqual({ back: 1, on: 0 });
    history.keep("hello", "line", 9000);
    history.keep("x", "", 9001);
    history.keep("y", "", 9002);
    expect(history.steps.back).toBe(4);
  });

  it("a new change ends what could be done again; forgetting ends both", () => {
    const history = new History<string>();
    history.keep("a", "", 0);
    history.undo("b");
    history.keep("a", "", 1);
    expect(history.steps).toEqual({ back: 1, on: 0 });
    history.forget();
    expect(history.undo("z")).toBeNull();
  });

  it("what was typed before an undo is a change of its own after it", () => {
    const history = new History<string>();
    history.keep("a", "line", 0);
    history.undo("b");
    history.keep("a", "line", 10);
    expect(history.steps.back).toBe(1);
  });

  it("keep the latest five hundred", () => {
    const history = new History<number>();
    for (let i = 0; i < 700; i++) history.keep(i, "", i);
    expect(history.steps.back).toBe(500);
    expect(history.undo(700)).toBe(699);
  });
});
