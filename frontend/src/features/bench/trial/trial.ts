/** What came of two versions of a page on the same items, in words. */
import type { Schemas } from "../../../api/client";

export type Comparison = Schemas["ComparisonView"];
export type Pair = Schemas["PairView"];
type Difference = Schemas["DifferenceView"];

/** What the change did to a draft: how it is marked, the sign and the words. */
export const CAME: Record<string, { sign: string; words: string; tone: string }> = {
  broke: { sign: "✕", words: "broken", tone: "text-brick" },
  mended: { sign: "✓", words: "mended", tone: "text-leaf" },
  other: { sign: "~", words: "differs", tone: "text-ochre" },
  same: { sign: "=", words: "the same", tone: "text-soft" },
};

const signed = (share: number) => `${share > 0 ? "+" : share < 0 ? "−" : "±"}${Math.round(Math.abs(share) * 100)}`;

/** A difference of shares with its bounds, such as “+35 % (+9 to +56)”. */
export const between = (one: Difference) =>
  `${signed((one.after - one.before) / Math.max(one.of, 1))} % (${signed(one.low)} to ${signed(one.high)})`;

/** What a difference comes to for somebody who knows no statistics. */
export function verdict(one: Difference): { words: string; tone: string } {
  if (!one.of) return { words: "There is nothing to compare.", tone: "text-soft" };
  if (one.low > 0) return { words: "Better, and hardly by chance.", tone: "text-leaf" };
  if (one.high < 0) return { words: "Worse, and hardly by chance.", tone: "text-brick" };
  if (one.broke === 0 && one.mended === 0)
    return { words: "No draft was mended, and none was broken.", tone: "text-soft" };
  const way = one.mended > one.broke ? "Better" : one.mended < one.broke ? "Worse" : "Neither better nor worse";
  return {
    words: one.mended === one.broke ? `${way}.` : `${way} on these, but so few may say so by chance. Take more items.`,
    tone: one.mended < one.broke ? "text-ochre" : "text-soft",
  };
}

/** Which of the pairs to show: all, or those of one outcome. */
export const chosen = (pairs: Pair[], came: string, step: string) =>
  pairs.filter((pair) => (!came || pair.came === came) && (!step || pair.step === step));
