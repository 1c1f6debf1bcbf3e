import type { ButtonHTMLAttributes, ReactNode } from "react";

type Look = "main" | "plain" | "quiet" | "wrong";

const LOOKS: Record<Look, string> = {
  main: "bg-leaf text-onleaf border-leaf hover:opacity-90",
  plain: "bg-sheet text-ink border-rule hover:bg-shade",
  quiet: "bg-transparent text-ink border-transparent hover:bg-shade underline-offset-4",
  wrong: "bg-sheet text-brick border-brick hover:bg-brickwash",
};

type Props = ButtonHTMLAttributes<HTMLButtonElement> & { look?: Look; hint?: string; children: ReactNode };

/** A button with words; `hint` is the key that does the same. */
export function Button({ look = "plain", hint, className = "", children, ...rest }: Props) {
  return (
    <button
      type="button"
      className={`inline-flex items-center gap-2 rounded border px-3 py-1 text-sm whitespace-nowrap disabled:opacity-45 ${LOOKS[look]} ${className}`}
      {...rest}
    >
      {children}
      {hint && (
        <kbd aria-hidden className={`font-sans text-xs ${look === "main" ? "opacity-90" : "opacity-70"}`}>
          {hint}
        </kbd>
      )}
    </button>
  );
}
