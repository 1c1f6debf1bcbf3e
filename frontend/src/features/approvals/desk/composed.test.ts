import { expect, it } from "vitest";
import { type Composed, isDraftItself } from "./composed";

const bare = { form: "post", text: "Seed", pictures: [], tags: [], answers: "", also: [] };
const post = (more: object = {}) =>
  ({ line: "out", title: "Post", wrong: "", piece: { piece: { ...bare, ...more } } }) as unknown as Composed;

it("a lone post is the draft itself only where nothing goes along with its text", () => {
  expect(isDraftItself([post()], " Seed ")).toBe(true);
  expect(isDraftItself([post()], "Changed")).toBe(false);
  expect(isDraftItself([post(), post()], "Seed")).toBe(false);
  const along = [
    { pictures: [{ link: "x" }] },
    { tags: ["seed"] },
    { answers: "https://a.example/1" },
    { also: ["there"] },
  ];
  for (const more of along) expect(isDraftItself([post(more)], "Seed")).toBe(false);
});
