import { type ReactNode, useState } from "react";

/** What stands beside the piece where there is room, and one press away where there is not. */
export function Behind({ children }: { children: ReactNode }) {
  const [shown, setShown] = useState(false);
  return (
    <>
      <button
        type="button"
        aria-expanded={shown}
        className="w-full py-2 text-left text-sm lg:hidden"
        onClick={() => setShown(!shown)}
      >
        Evidence, rules and sources {shown ? "▴" : "▾"}
      </button>
      <div className={shown ? "" : "max-lg:hidden"}>{children}</div>
    </>
  );
}
