import { useEffect, useState } from "react";

type Note = { id: number; text: string; wrong: boolean };

let next = 1;
let show: ((note: Note) => void) | null = null;

/** Say something in passing. */
export function say(text: string, wrong = false) {
  show?.({ id: next++, text, wrong });
}

export const sayError = (error: unknown) => say(error instanceof Error ? error.message : "That did not work.", true);

/** Where passing notes appear; one at a time, the newest. */
export function Toasts() {
  const [note, setNote] = useState<Note | null>(null);
  useEffect(() => {
    show = setNote;
    return () => {
      show = null;
    };
  }, []);
  useEffect(() => {
    if (!note) return;
    const timer = window.setTimeout(() => setNote(null), note.wrong ? 9000 : 4000);
    return () => window.clearTimeout(timer);
  }, [note]);
  return (
    <div
      role="status"
      aria-live="polite"
      className="pointer-events-none fixed inset-x-0 bottom-4 z-[60] flex justify-center px-4"
    >
      {note && (
        <button
          type="button"
          onClick={() => setNote(null)}
          className={`pointer-events-auto max-w-xl rounded border bg-sheet px-4 py-2 text-left text-sm shadow-lg ${note.wrong ? "border-brick text-brick" : "border-rule"}`}
        >
          {note.text}
        </button>
      )}
    </div>
  );
}
