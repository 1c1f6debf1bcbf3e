import { expect, it } from "vitest";
import { byDay, DAY, dayOf, daysFrom, daysOn, fromField, inField, midnight, named, onDay, weekOf } from "./times";

const at = (text: string) => new Date(text).getTime() / 1000;

it("begins weeks on Monday and days at midnight", () => {
  expect(named(weekOf(at("2026-11-29T23:59")))).toBe("2026-11-23");
  expect(named(weekOf(at("2026-11-30T00:00")))).toBe("2026-11-30");
  expect(midnight(at("2026-11-30T17:05"))).toBe(at("2026-11-30T00:00"));
});

it("keeps the time by the clock across days, months and changes of the clocks", () => {
  expect(inField(daysOn(at("2026-03-28T09:30"), 2))).toBe("2026-03-30T09:30");
  expect(inField(onDay(at("2026-10-24T08:15:00"), at("2026-10-26T00:00")))).toBe("2026-10-26T08:15");
  expect(daysFrom(at("2026-02-27T00:00"), 3).map(named)).toEqual(["2026-02-27", "2026-02-28", "2026-03-01"]);
});

it("reads what it names, and nothing else", () => {
  expect(named(dayOf("2026-12-01") ?? 0)).toBe("2026-12-01");
  expect([dayOf(null), dayOf("soon"), dayOf("2026-12-1")]).toEqual([null, null, null]);
  expect(fromField(inField(at("2026-12-01T08:00")))).toBe(at("2026-12-01T08:00"));
});

it("puts things under their day in their order", () => {
  const things = [{ at: at("2026-12-01T08:00") }, { at: at("2026-12-01T20:00") }, { at: at("2026-12-02T01:00") }];
  expect([...byDay(things).values()].map((day) => day.length)).toEqual([2, 1]);
  expect(DAY).toBe(86_400);
});
