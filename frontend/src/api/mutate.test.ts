import { QueryObserver } from "@tanstack/react-query";
import { afterEach, describe, expect, it } from "vitest";
import { queries } from "./client";
import { staleNow } from "./mutate";

/** Something that is read, where each reading waits until it is let through. */
function read() {
  let stands = "before";
  const through: (() => void)[] = [];
  const observer = new QueryObserver(queries, {
    queryKey: ["today"],
    queryFn: () => {
      const seen = stands;
      return new Promise<string>((done) => through.push(() => done(seen)));
    },
  });
  const stop = observer.subscribe(() => {});
  return {
    stop,
    change: (now: string) => {
      stands = now;
    },
    next: async () => {
      await expect.poll(() => through.length).toBeGreaterThan(0);
      through.shift()?.();
    },
    shown: () => observer.getCurrentResult().data,
  };
}

describe("what is stale", () => {
  afterEach(() => queries.clear());

  it("is read once more when it changed during its first reading", async () => {
    const view = read();
    view.change("after");
    const told = staleNow("today");
    await view.next();
    await view.next();
    await told;
    expect(view.shown()).toBe("after");
    view.stop();
  });

  it("is read anew when it is there already", async () => {
    const view = read();
    await view.next();
    await expect.poll(view.shown).toBe("before");
    view.change("after");
    const told = staleNow("today");
    await view.next();
    await told;
    expect(view.shown()).toBe("after");
    view.stop();
  });
});
