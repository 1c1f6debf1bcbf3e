import { describe, expect, it } from "vitest";
import { branches, brief, flat, offered, type Value } from "./valuetree";

const value = (root: string, path: string, of: unknown = null): Value =>
  ({
    root,
    path,
    title: `Title of ${root}`,
    about: "",
    type: "text",
    value: of,
    known: of !== null,
    inside: [],
  }) as Value;

describe("what is offered once something is typed", () => {
  const values = [
    value("run", "run.date"),
    value("feed", "feed.title"),
    value("feed", "feed.link"),
    value("feed", "feed.published", "2026-01-01"),
    value("page", "page.text"),
    value("page", "page.updated"),
    value("page", "page.title"),
    value("row", 'row."Site"'),
  ];
  const paths = (typed: string) => offered(values, typed).map((one) => one.node.path);

  it("is what is called so first, wherever it stands", () => {
    expect(paths("date")[0]).toBe("run.date");
    expect(paths("Date")[0]).toBe("run.date");
    expect(paths("text")[0]).toBe("page.text");
    expect(paths("title").slice(0, 2)).toEqual(["page.title", "feed.title"]);
  });

  it("is what means the same where nothing is called so", () => {
    expect(paths("headline").slice(0, 2)).toEqual(["page.title", "feed.title"]);
    expect(paths("website")[0]).toBe('row."Site"');
    expect(paths("url")).toContain("feed.link");
    expect(paths("body")[0]).toBe("page.text");
  });

  it("is what begins so, then what holds it, and nothing else", () => {
    expect(paths("page.t")).toEqual(["page.text", "page.title"]);
    expect(paths("pub")).toEqual(["feed.published"]);
    expect(paths("zz")).toEqual([]);
    expect(paths("")).toHaveLength(values.length);
  });
});

describe("the values a line can point at", () => {
  it("stand under their lines, the nearest first, the brand and the run last", () => {
    const tree = branches([
      value("brand", "brand.name"),
      value("run", "run.date"),
      value("feed", "feed.title"),
      value("page", "page.text"),
    ]);
    expect(tree.map((one) => one.name)).toEqual(["page", "feed", "run", "brand"]);
  });

  it("have paths that can be written as they are: names with blanks and quotes in quotes, positions from 1", () => {
    const paths = flat(branches([value("row", "row.found", { 'Company "x"': [1, 2], plain: 3 })])).map(
      (one) => one.path,
    );
    expect(paths).toContain('row.found."Company \\"x\\""');
    expect(paths).toContain('row.found."Company \\"x\\""[1]');
    expect(paths).toContain("row.found.plain");
  });

  it("end somewhere, however deep a value is", () => {
    let deep: unknown = "x";
    for (let i = 0; i < 50; i++) deep = { in: deep };
    expect(flat(branches([value("a", "a.b", deep)])).length).toBeLessThan(10);
  });

  it("are told in brief, whatever they are", () => {
    for (const one of flat(branches([value("a", "a.b", [1, null, { c: true }]), value("a", "a.d", "x".repeat(999))])))
      expect(brief(one).length).toBeLessThan(200);
  });
});
