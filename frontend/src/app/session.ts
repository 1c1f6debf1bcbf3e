import { useQuery } from "@tanstack/react-query";
import { api, keepCsrf, ok, type Schemas } from "../api/client";

export type Session = Schemas["SessionView"];

/** Who is signed in. */
export function useSession() {
  return useQuery({
    queryKey: ["session"],
    staleTime: Number.POSITIVE_INFINITY,
    queryFn: async () => {
      const session = await ok(api.GET("/api/session"));
      keepCsrf(session.csrf);
      return session;
    },
  });
}

/** Whether the signed-in person may do what needs `role`. */
export function may(session: Session | undefined, role: "reviewer" | "maker" | "owner"): boolean {
  const order = ["reader", "reviewer", "maker", "owner"];
  return order.indexOf(session?.role ?? "reader") >= order.indexOf(role);
}
