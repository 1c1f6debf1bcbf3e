import { expect, test } from "vitest";
import { lately } from "./lately";

test("a worker that was heard of is at work or ready; one that was not is gone, in words", () => {
  expect(lately({ heard: 4.2, at_work: 3 })).toEqual({ says: "at work", gone: false });
  expect(lately({ heard: 4.2, at_work: 0 })).toEqual({ says: "ready", gone: false });
  expect(lately({ heard: 31.4, at_work: 3 })).toEqual({ says: "not heard of for 31 seconds", gone: true });
  expect(lately({ heard: 100, at_work: 0 }).says).toBe("not heard of for 2 minutes");
});
