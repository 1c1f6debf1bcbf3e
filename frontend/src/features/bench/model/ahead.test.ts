import { expect, it } from "vitest";
import { parted } from "./ahead";

it("what is typed before the field is there goes into it, and from the first other key on to the page", () => {
  expect(parted(["H", "i", " ", "Escape", "n"], true)).toEqual(["Hi ", ["Escape", "n"]]);
  expect(parted(["Escape", "n"], true)).toEqual(["", ["Escape", "n"]]);
  expect(parted(["H", "o", "Backspace", "i"], true)).toEqual(["Hi", []]);
});

it("where there is no field all keys are the page's", () => {
  expect(parted(["n"], false)).toEqual(["", ["n"]]);
});
