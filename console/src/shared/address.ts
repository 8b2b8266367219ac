import { useCallback } from "react";
import { useSearchParams } from "react-router";

/**
 * State that lives in the page's address: filters, sorting, page. Setting one
 * goes back to the first page unless the page itself is set; the empty string
 * takes one away.
 */
export function useAddress() {
  const [params, setParams] = useSearchParams();
  const get = useCallback((name: string) => params.get(name) ?? "", [params]);
  const set = useCallback(
    (changes: Record<string, string>) => {
      setParams(
        (old) => {
          const next = new URLSearchParams(old);
          if (!("page" in changes)) next.delete("page");
          for (const [name, value] of Object.entries(changes)) {
            if (value) next.set(name, value);
            else next.delete(name);
          }
          return next;
        },
        { replace: true },
      );
    },
    [setParams],
  );
  return { get, set };
}

/** What a table's sorter says, as the API has it: name, or -name for descending. */
export function sortKey(sorter: unknown): string {
  const s = (Array.isArray(sorter) ? sorter[0] : sorter) as { columnKey?: unknown; order?: string } | undefined;
  if (!s?.order || !s.columnKey) return "";
  return (s.order === "descend" ? "-" : "") + String(s.columnKey);
}

export function sortOrder(key: string, column: string): "ascend" | "descend" | null {
  if (key === column) return "ascend";
  return key === `-${column}` ? "descend" : null;
}
