import { afterEach, expect, it, vi } from "vitest";
import { stillTyping, typed } from "./typing";

afterEach(() => vi.useRealTimers());

it("goes on for as long as keys come, and is over after a pause", () => {
  vi.useFakeTimers({ toFake: ["performance"] });
  typed();
  vi.advanceTimersByTime(150);
  expect(stillTyping(200)).toBe(true);
  vi.advanceTimersByTime(100);
  expect(stillTyping(200)).toBe(false);
  typed();
  expect(stillTyping(200)).toBe(true);
});
