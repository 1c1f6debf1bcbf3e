import { useQuery } from "@tanstack/react-query";
import type { Schemas } from "../api/client";
import * as reads from "../api/reads";

export type Session = Schemas["SessionView"];

/** Who is signed in. */
export function useSession() {
  return useQuery(reads.session());
}

/** Whether the signed-in person may do what needs `role`. */
export function may(session: Session | undefined, role: "reviewer" | "maker" | "owner"): boolean {
  const order = ["reader", "reviewer", "maker", "owner"];
  return order.indexOf(session?.role ?? "reader") >= order.indexOf(role);
}
