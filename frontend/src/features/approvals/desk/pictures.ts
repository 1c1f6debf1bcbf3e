/** Pictures chosen by their numbers, in order: one that is pressed comes last, or goes. */
export const toggled = (chosen: readonly number[], number: number): number[] =>
  chosen.includes(number) ? chosen.filter((one) => one !== number) : [...chosen, number];
