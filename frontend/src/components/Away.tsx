import type { ReactNode } from "react";
import { leadsAway } from "./addresses";

type Props = { to: string; className?: string; children: ReactNode; tabIndex?: number };

/** A link to somewhere outside; an address that is none, or that would run something here, stays text. */
export function Away({ to, className = "text-leaf underline", children, tabIndex }: Props) {
  if (!leadsAway(to)) return <span>{children}</span>;
  return (
    <a className={className} href={to} target="_blank" rel="noreferrer" tabIndex={tabIndex}>
      {children}
    </a>
  );
}
