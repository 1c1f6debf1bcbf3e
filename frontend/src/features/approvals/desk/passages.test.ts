import { expect, it } from "vitest";
import { withPassage } from "./passages";

it("a passage stands in the note, with room for what is said of it", () => {
  expect(withPassage("", " the  price\nis ")).toBe("“the price is”: ");
  expect(withPassage("Shorter.", "the end")).toBe("Shorter.\n“the end”: ");
  expect(withPassage("Shorter.", "  ")).toBe("Shorter.");
  expect(withPassage("", "x".repeat(300)).length).toBeLessThan(220);
});
