import { DropdownMenu as Radix } from "radix-ui";
import type { ButtonHTMLAttributes, ReactNode } from "react";

const ITEM = "block cursor-pointer rounded-sm px-3 py-1.5 outline-none data-[highlighted]:bg-shade";

/** A menu under the thing that opens it. The page stays reachable meanwhile: nothing is hidden from a screen reader. */
export function Menu({
  opens,
  children,
  onClose,
}: {
  opens: ReactNode;
  children: ReactNode;
  /** Given where the menu is made only when it is wanted: it is open at once, and says when it closes. */
  onClose?: () => void;
}) {
  return (
    <Radix.Root modal={false} defaultOpen={!!onClose} onOpenChange={onClose && ((open) => !open && onClose())}>
      <Radix.Trigger asChild>{opens}</Radix.Trigger>
      <Radix.Portal>
        <Radix.Content
          align="end"
          collisionPadding={8}
          className="z-50 max-h-[70vh] min-w-44 max-w-80 overflow-y-auto rounded-md border border-rule bg-sheet p-1 text-sm text-ink shadow-lg"
        >
          {children}
        </Radix.Content>
      </Radix.Portal>
    </Radix.Root>
  );
}

/** The small button of three dots that opens a menu of one thing. */
export function Dots({ label, tabIndex, ...more }: { label: string } & ButtonHTMLAttributes<HTMLButtonElement>) {
  return (
    <button
      type="button"
      aria-label={label}
      tabIndex={tabIndex}
      className="-mt-0.5 rounded px-1 text-soft hover:bg-shade"
      {...more}
    >
      …
    </button>
  );
}

export function Item({ onSelect, grave, children }: { onSelect: () => void; grave?: boolean; children: ReactNode }) {
  return (
    <Radix.Item onSelect={onSelect} className={grave ? `${ITEM} text-brick` : ITEM}>
      {children}
    </Radix.Item>
  );
}

/** An item that is a link: `children` is the link itself. */
export function LinkItem({ children }: { children: ReactNode }) {
  return (
    <Radix.Item asChild className={ITEM}>
      {children}
    </Radix.Item>
  );
}

export function MenuHead({ children }: { children: ReactNode }) {
  return <Radix.Label className="px-3 pb-1 pt-2 text-xs text-soft">{children}</Radix.Label>;
}
