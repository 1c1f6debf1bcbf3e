/** Comments on passages: part of the note, each with the passage it is about, so that whoever rewrites gets it as well. */

const LONGEST = 200;

/** A note with a place for a comment on a passage at its end. */
export function withPassage(note: string, passage: string): string {
  const said = passage.replace(/\s+/g, " ").trim();
  if (!said) return note;
  const short = said.length > LONGEST ? `${said.slice(0, LONGEST).trimEnd()} …` : said;
  return `${note.trimEnd()}${note.trim() ? "\n" : ""}“${short}”: `;
}

/** What is selected: in a text box, else on the page, if it lies within `inside`. */
export function selected(inside: Element | null): string {
  const at = document.activeElement;
  if (at instanceof HTMLTextAreaElement && inside?.contains(at))
    return at.value.slice(at.selectionStart, at.selectionEnd);
  const selection = document.getSelection();
  return selection?.anchorNode && inside?.contains(selection.anchorNode) ? selection.toString() : "";
}
