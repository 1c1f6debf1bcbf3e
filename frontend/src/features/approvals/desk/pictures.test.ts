import { expect, it } from "vitest";
import { toggled } from "./pictures";

it("a picture that is pressed comes last, and goes when it is pressed again", () => {
  expect(toggled([1, 2, 3], 2)).toEqual([1, 3]);
  expect(toggled([1, 3], 2)).toEqual([1, 3, 2]);
});
