import type { WireNode } from "../../api/client";

const plain = /^[A-Za-z_][A-Za-z0-9_]*$/;

/** The path of a value below the one at `above`, as findings write it (RFC 9535, elements taken together). */
export function pathBelow(above: string, n: WireNode): string {
  if (n.path) return n.path;
  if (n.type && n.field) return `${n.type} >> ${pathBelow("$", { ...n, type: undefined, name: n.field })}`;
  if (n.inner && n.name !== undefined) return `${above === "$" ? "" : `${above} >> `}${n.name} >> $`;
  if (n.inner) return `${above} >> $`;
  if (n.index !== undefined) return `${above}[*]`;
  if (n.name === undefined) return above;
  return plain.test(n.name)
    ? `${above}.${n.name}`
    : `${above}['${n.name.replaceAll("\\", "\\\\").replaceAll("'", "\\'")}']`;
}
