import { useQuery } from "@tanstack/react-query";
import { api, take } from "../api/client";
import { keys } from "../api/keys";

/** The kinds of findings, with what is known of each; they are the same as long as the page is open. */
export function useKinds(wanted = true) {
  return useQuery({
    queryKey: keys.kinds(),
    queryFn: () => take(api.GET("/api/v1/kinds")),
    staleTime: Infinity,
    enabled: wanted,
  });
}
