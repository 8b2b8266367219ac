import { useQuery } from "@tanstack/react-query";
import { api, take } from "../api/client";

/** Who is signed in; a 401 problem when nobody is. */
export function useSession() {
  return useQuery({ queryKey: ["session"], queryFn: () => take(api.GET("/api/v1/session")), staleTime: 60_000 });
}

const rank = { viewer: 1, reviewer: 2, lead: 3, administrator: 4 } as const;

/** Whether the person may do what needs a role. */
export function useMay(role: keyof typeof rank): boolean {
  const { data } = useSession();
  return data ? rank[data.role] >= rank[role] : false;
}
