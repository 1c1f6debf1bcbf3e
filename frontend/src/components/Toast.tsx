import { useEffect, useState } from "react";

type Note = { id: number; text: string; wrong: boolean; back?: () => void };

let next = 1;
let show: ((note: Note) => void) | null = null;

/** Say something in passing. */
export function say(text: string, wrong = false) {
  show?.({ id: next++, text, wrong });
}

/** Say that something is gone, with a way to have it back. */
export const sayGone = (text: string, back: () => void) => show?.({ id: next++, text, wrong: false, back });

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
    const timer = window.setTimeout(() => setNote(null), note.wrong || note.back ? 9000 : 4000);
    return () => window.clearTimeout(timer);
  }, [note]);
  return (
    <div
      role="status"
      aria-live="polite"
      className="pointer-events-none fixed inset-x-0 bottom-4 z-[60] flex justify-center px-4"
    >
      {note && (
        <div
          className={`pointer-events-auto flex max-w-xl items-baseline rounded border bg-sheet text-sm shadow-lg ${note.wrong ? "border-brick text-brick" : "border-rule"}`}
        >
          <button type="button" onClick={() => setNote(null)} className="px-4 py-2 text-left">
            {note.text}
          </button>
          {note.back && (
            <button
              type="button"
              className="border-l border-line px-4 py-2 font-semibold hover:bg-shade"
              onClick={() => {
                note.back?.();
                setNote(null);
              }}
            >
              Undo
            </button>
          )}
        </div>
      )}
    </div>
  );
}
