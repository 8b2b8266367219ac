import { useQuery, type QueryClient } from "@tanstack/react-query";
import { actFor, api, take, type Person } from "../api/client";
import { keys } from "../api/keys";

/** Who is signed in; a 401 problem when nobody is. */
export function useSession() {
  const ask = async () => {
    const person = await take(api.GET("/api/v1/session"));
    actFor(person.id);
    return person;
  };
  return useQuery({ queryKey: keys.session(), queryFn: ask, staleTime: 60_000 });
}

/** Signs somebody in here, and tells the browser's other tabs. */
export function signedIn(queries: QueryClient, person: Person) {
  actFor(person.id, true);
  queries.setQueryData(keys.session(), person);
}

const rank = { viewer: 1, reviewer: 2, lead: 3, administrator: 4 } as const;

/** Whether the person may do what needs a role: at the named service, or at any when none is named; "" means what belongs to no service. */
export function useMay(role: keyof typeof rank, service?: string): boolean {
  const { data } = useSession();
  if (!data) return false;
  const at = data.role === "administrator" ? [] : (data.service_roles ?? []);
  const there = at.find((r) => r.service === service)?.role;
  const held = service === undefined ? [data.role, ...at.map((r) => r.role)] : [there ?? data.role];
  return held.some((r) => r !== undefined && rank[r] >= rank[role]);
}
