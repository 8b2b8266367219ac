import type { GrantNode, PatchOp, ResponseContract } from "../../api/client";

// The operations on a contract file that the ticks and forms of the editor stand for.

/** A JSON Pointer's token (RFC 6901). */
export const token = (s: string) => s.replaceAll("~", "~0").replaceAll("/", "~1");

export type Written = Record<string, unknown>;

/** The long form of what stands behind a grant's name. */
export function longForm(g: GrantNode): Written {
  if (g.written === null || g.written === undefined) return {};
  if (typeof g.written === "string") return { field: g.written };
  return { ...(g.written as Written) };
}

/** The shortest form that says the same. */
export function shortForm(w: Written): unknown {
  const keys = Object.keys(w);
  if (keys.length === 0) return null;
  if (keys.length === 1 && typeof w.field === "string") return w.field;
  return w;
}

export function without(w: Written, ...keys: string[]): Written {
  return Object.fromEntries(Object.entries(w).filter(([k]) => !keys.includes(k)));
}

/** Adds a member to what a response, or a grant, spells out. */
export function grantOp(
  into: { file: string; pointer: string; hasGrants: boolean },
  name: string,
  value: unknown,
): PatchOp {
  if (into.hasGrants) return { file: into.file, op: "add", path: `${into.pointer}/grants/${token(name)}`, value };
  return { file: into.file, op: "add", path: `${into.pointer}/grants`, value: { [name]: value } };
}

/** Takes a grant away. */
export const ungrantOp = (g: GrantNode): PatchOp => ({ file: g.file!, op: "remove", path: g.pointer! });

/** Changes a grant: what it says, and what its member is called. */
export function changeOps(g: GrantNode, name: string, w: Written): PatchOp[] {
  const ops: PatchOp[] = [{ file: g.file!, op: "replace", path: g.pointer!, value: shortForm(w) }];
  if (name !== g.name)
    ops.push({
      file: g.file!,
      op: "move",
      from: g.pointer!,
      path: g.pointer!.slice(0, g.pointer!.lastIndexOf("/") + 1) + token(name),
    });
  return ops;
}

/** Sets, or takes away, a key of a response. */
export function responseOps(r: ResponseContract, key: string, value: unknown, there: boolean): PatchOp[] {
  const path = `${r.pointer}/${token(key)}`;
  if (value === undefined || value === false || (Array.isArray(value) && value.length === 0 && key === "audiences"))
    return there ? [{ file: r.file!, op: "remove", path }] : [];
  return [{ file: r.file!, op: "add", path, value }];
}
