/** Whether somebody is in the middle of typing: what is made of it waits for a pause. */
let last = 0;

/** A key was pressed in a text. */
export function typed() {
  last = performance.now();
}

/** Whether a key came within the last so many milliseconds. */
export const stillTyping = (within: number) => performance.now() - last < within;
