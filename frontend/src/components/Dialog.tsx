import { Dialog as Radix } from "radix-ui";
import type { ReactNode } from "react";

type Props = { open: boolean; onClose: () => void; title: string; about?: string; wide?: boolean; children: ReactNode };

/** A sheet of paper laid over the page. */
export function Dialog({ open, onClose, title, about, wide, children }: Props) {
  return (
    <Radix.Root open={open} onOpenChange={(now) => !now && onClose()}>
      <Radix.Portal>
        <Radix.Overlay className="fixed inset-0 z-40 bg-black/35" />
        <Radix.Content
          className={`fixed top-[8vh] left-1/2 z-50 max-h-[84vh] w-[92vw] -translate-x-1/2 overflow-y-auto rounded-md border border-rule bg-paper p-6 text-ink shadow-xl ${wide ? "max-w-5xl" : "max-w-lg"}`}
        >
          <Radix.Title className="pr-16 font-serif text-xl">{title}</Radix.Title>
          <Radix.Description className={about ? "mt-1 text-sm text-soft" : "sr-only"}>
            {about || title}
          </Radix.Description>
          <div className="mt-4">{children}</div>
          {/* Last, so that a dialog opens with its first field at hand. */}
          <Radix.Close className="absolute top-5 right-5 rounded px-2 py-0.5 text-sm text-soft hover:bg-shade hover:text-ink">
            Close
          </Radix.Close>
        </Radix.Content>
      </Radix.Portal>
    </Radix.Root>
  );
}
