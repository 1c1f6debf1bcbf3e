import type { ReactNode } from "react";
import { ApiError } from "../api/client";
import { Button } from "./Button";

/** Something is being fetched; said in words, after a moment. */
export function Loading({ what = "Loading …" }: { what?: string }) {
  return (
    <p role="status" className="p-6 text-sm text-soft">
      {what}
    </p>
  );
}

/** What could not be shown, why, and what to do. */
export function Failed({ error, again }: { error: unknown; again?: () => void }) {
  return (
    <div role="alert" className="m-6 border-l-2 border-brick pl-4 text-sm">
      <p className="text-brick">{error instanceof ApiError ? error.message : "This could not be shown."}</p>
      {again && (
        <Button className="mt-2" onClick={again}>
          Try again
        </Button>
      )}
    </div>
  );
}

/** Nothing here yet, and what would put something here. */
export function Empty({ title, children }: { title: string; children?: ReactNode }) {
  return (
    <div className="py-6 text-soft">
      <p className="font-serif text-lg text-ink">{title}</p>
      <div className="mt-1 max-w-prose text-sm">{children}</div>
    </div>
  );
}
