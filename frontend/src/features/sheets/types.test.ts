import { describe, expect, it } from "vitest";
import { inWords, needsValue, opsFor } from "./types";

describe("conditions on columns", () => {
  it("are said in words that fit the type", () => {
    expect(inWords({ column: "Born", op: "more", value: "2026-01-01" }, "date")).toBe("Born is after 2026-01-01");
    expect(inWords({ column: "Views", op: "more", value: "3" }, "number")).toBe("Views is more than 3");
    expect(inWords({ column: "Town", op: "empty", value: "left over" }, "text")).toBe("Town is empty");
  });
  it("offer only what can be asked of a type", () => {
    expect(opsFor("number").map(([op]) => op)).not.toContain("contains");
    expect(opsFor("link").map(([op]) => op)).not.toContain("more");
    expect(opsFor("text").filter(([op]) => !needsValue(op))).toHaveLength(2);
  });
});
