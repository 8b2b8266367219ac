import { Alert, Flex, Segmented, Typography } from "antd";
import { useEffect, useMemo, useRef, useState } from "react";
import { useNavigate } from "react-router";
import type { WireNode } from "../../api/client";
import { bytes as bytesText, count } from "../format";
import { pathBelow } from "./path";

// The wire view: a body as it was sent, each value marked by how it stands to the
// contract, with its bytes as a bar at the edge.

type Look = "granted" | "open" | "foreign" | "theirs" | "ungranted" | "missing" | "sensitive" | "swept";

const signs: Record<Look, { sign: string; word: string }> = {
  granted: { sign: "✓", word: "granted" },
  open: { sign: "○", word: "inside open" },
  foreign: { sign: "⇄", word: "for another audience" },
  theirs: { sign: "@", word: "another person's" },
  ungranted: { sign: "+", word: "unexpected" },
  sensitive: { sign: "‼", word: "sensitive" },
  missing: { sign: "−", word: "missing" },
  swept: { sign: "·", word: "swept only" },
};

const sensitiveKinds = new Set(["secret-value", "sensitive-field", "personal-value"]);

function lookOf(n: WireNode, above: Look): Look {
  if (n.finding && sensitiveKinds.has(n.finding.kind)) return "sensitive";
  if (n.finding?.kind === "foreign-record") return "theirs";
  if (n.finding?.kind === "wrong-audience") return "foreign";
  if (n.mark === "missing") return "missing";
  if (n.mark === "swept" && above === "granted") return "open";
  // everything below an ungranted value is as unexpected as the value
  if (n.mark === "swept" && above !== "swept") return above === "sensitive" ? "ungranted" : above;
  return n.mark;
}

interface Row {
  id: string;
  path: string;
  node: WireNode;
  look: Look;
  depth: number;
  parent: number; // index of the parent among all nodes, -1 for the body
  index: number;
  over: boolean; // not granted, so that its bytes are excess
}

function rowsOf(root: WireNode): Row[] {
  const rows: Row[] = [];
  const visit = (node: WireNode, depth: number, parent: number, above: Look, overAbove: boolean, path: string) => {
    const look = lookOf(node, above);
    const over = overAbove || node.mark === "ungranted" || look === "foreign" || look === "theirs";
    const index = rows.length;
    rows.push({ id: node.pointer ?? "", path, node, look, depth, parent, index, over });
    for (const child of node.children ?? []) visit(child, depth + 1, index, look, over, pathBelow(path, child));
  };
  visit(root, 0, -1, root.mark, false, "$");
  return rows;
}

const label = (n: WireNode) =>
  (n.inner ? ">> " : "") + (n.name ?? (n.index !== undefined ? `[${n.index}]` : n.inner ? "body inside" : "body"));

function size(n: WireNode): string {
  const children = (n.children?.length ?? 0) + (n.more ?? 0);
  if (n.kind === "object") return n.children ? `{${children}}` : "{}";
  if (n.kind === "page") return `page, ${count(children, "body", "bodies")} inside`;
  if (n.kind === "array") return n.children || n.more ? `[${children}]` : "[]";
  return "";
}

/** What a screen reader says of a row. */
function spoken(r: Row): string {
  const parts = [label(r.node), signs[r.look].word];
  if (r.node.type) parts.push(`field ${r.node.field} of ${r.node.type}`);
  if (r.node.value !== undefined) parts.push(r.node.value);
  if (r.node.finding) parts.push(`${r.node.finding.severity} ${r.node.finding.kind}: ${r.node.finding.why}`);
  parts.push(`${r.node.bytes} bytes`);
  return parts.join(", ");
}

/** tools is what stands below for the value that has the focus. */
export function WireView({
  body,
  cut,
  at,
  judgedBy,
  tools,
}: {
  body: WireNode;
  cut?: number;
  at?: string;
  judgedBy: string;
  tools?: (n: WireNode, path: string) => React.ReactNode;
}) {
  const rows = useMemo(() => rowsOf(body), [body]);
  const spots = rows.filter((r) => r.node.finding).length;
  const [show, setShow] = useState<"all" | "spots">("all");
  const [closed, setClosed] = useState<Set<number>>(() => initiallyClosed(rows, at));
  const chosen = rows.findIndex((r) => at !== undefined && r.id === at);
  const [current, setCurrent] = useState(Math.max(chosen, 0));
  const tree = useRef<HTMLDivElement>(null);

  useEffect(() => {
    setClosed(initiallyClosed(rows, at));
    setCurrent(Math.max(chosen, 0));
    const all = tree.current;
    const row = chosen > 0 && all?.querySelector(`[data-index="${chosen}"]`);
    if (!all || !row) return;
    if (all.scrollHeight > all.clientHeight + 1)
      all.scrollTop += row.getBoundingClientRect().top - all.getBoundingClientRect().top - all.clientHeight / 3;
    else row.scrollIntoView({ block: "center" });
  }, [rows, at, chosen]);

  const leads = useMemo(() => {
    const keep = new Set<number>();
    for (const r of rows) if (r.node.finding) for (let i = r.index; i >= 0; i = rows[i]!.parent) keep.add(i);
    return keep;
  }, [rows]);

  const visible: Row[] = [];
  const hiddenBelow = new Set<number>();
  for (const r of rows) {
    const under = r.parent >= 0 && (hiddenBelow.has(r.parent) || closed.has(r.parent));
    if (under || (show === "spots" && !leads.has(r.index))) {
      hiddenBelow.add(r.index);
      continue;
    }
    visible.push(r);
  }
  const total = Math.max(body.bytes, 1);

  const toggle = (r: Row) => {
    if (!r.node.children) return;
    setClosed((old) => {
      const next = new Set(old);
      if (!next.delete(r.index)) next.add(r.index);
      return next;
    });
  };
  const focus = (index: number) => {
    setCurrent(index);
    requestAnimationFrame(() => tree.current?.querySelector<HTMLElement>(`[data-index="${index}"]`)?.focus());
  };

  const navigate = useNavigate();
  const onKeyDown = (event: React.KeyboardEvent) => {
    const where = visible.findIndex((r) => r.index === current);
    const r = visible[where];
    if (!r) return;
    const isClosed = closed.has(r.index);
    const go = (to: Row | undefined) => to && focus(to.index);
    switch (event.key) {
      case "ArrowDown":
        go(visible[where + 1]);
        break;
      case "ArrowUp":
        go(visible[where - 1]);
        break;
      case "Home":
        go(visible[0]);
        break;
      case "End":
        go(visible[visible.length - 1]);
        break;
      case "ArrowRight":
        if (r.node.children && isClosed) toggle(r);
        else if (r.node.children) go(visible[where + 1]);
        break;
      case "ArrowLeft":
        if (r.node.children && !isClosed) toggle(r);
        else if (r.parent >= 0) focus(r.parent);
        break;
      case "n": // the next finding
        go(visible.slice(where + 1).find((x) => x.node.finding));
        break;
      case "Enter":
      case " ":
        if (r.node.finding && event.key === "Enter") navigate(`/findings/${r.node.finding.id}`);
        else toggle(r);
        break;
      default:
        return;
    }
    event.preventDefault();
  };

  return (
    <section className="wire" aria-label="Body as it was on the wire">
      <Flex justify="space-between" gap={8} wrap>
        <div className="wire-legend">
          {(Object.keys(signs) as Look[])
            .filter((l) => rows.some((r) => r.look === l))
            .map((l) => (
              <span key={l} className={`legend-${l}`}>
                <b aria-hidden>{signs[l].sign}</b> {signs[l].word}
              </span>
            ))}
        </div>
        <Segmented
          size="small"
          value={show}
          onChange={(v) => setShow(v as "all" | "spots")}
          options={[
            { value: "all", label: "All" },
            { value: "spots", label: `Spots (${spots})`, disabled: spots === 0 },
          ]}
        />
      </Flex>
      {judgedBy === "sweep" && (
        <Alert
          type="info"
          showIcon
          title="No contract fits this response: the body was only swept for sensitive names and values."
          className="below-8"
        />
      )}
      <div ref={tree} role="tree" aria-label="Members" className="wire-tree" onKeyDown={onKeyDown}>
        {visible.map((r) => {
          const open = r.node.children ? !closed.has(r.index) : undefined;
          return (
            <div
              key={r.index}
              data-index={r.index}
              data-pointer={r.id}
              role="treeitem"
              aria-level={r.depth + 1}
              aria-expanded={open}
              aria-selected={r.index === current}
              aria-label={spoken(r)}
              tabIndex={r.index === current ? 0 : -1}
              className={`wire-row mark-${r.look}${r.index === chosen ? " chosen" : ""}`}
              title={r.node.finding ? `${r.node.finding.kind}: ${r.node.finding.why}` : signs[r.look].word}
              onClick={() => {
                setCurrent(r.index);
                toggle(r);
              }}
            >
              <span className="wire-sign" aria-hidden>
                {signs[r.look].sign}
              </span>
              <span className="wire-label" style={{ paddingInlineStart: r.depth * 14 }}>
                <span className="wire-toggle" aria-hidden>
                  {r.node.children ? (open ? "▾" : "▸") : ""}
                </span>
                <span className="wire-name">{label(r.node)}</span>{" "}
                {r.node.type && <span className="wire-type">{`${r.node.type}.${r.node.field}`}</span>}{" "}
                <span className="wire-value">{r.node.value ?? size(r.node)}</span>
              </span>
              <span className="wire-note">
                {r.node.finding ? (
                  <a
                    href={`/findings/${r.node.finding.id}`}
                    tabIndex={-1}
                    onClick={(e) => {
                      e.preventDefault();
                      e.stopPropagation();
                      navigate(`/findings/${r.node.finding!.id}`);
                    }}
                  >
                    {r.node.finding.severity} {r.node.finding.kind}
                  </a>
                ) : (
                  r.node.value !== undefined && r.node.class
                )}
              </span>
              <span className="wire-bytes">{r.node.bytes ? bytesText(r.node.bytes) : ""}</span>
              <span className={`wire-bar${r.over ? " over" : ""}`} aria-hidden>
                <span style={{ width: `${(r.node.bytes / total) * 100}%` }} />
              </span>
            </div>
          );
        })}
      </div>
      {tools && rows[current] && <div className="wire-tools">{tools(rows[current].node, rows[current].path)}</div>}
      {cut ? (
        <Typography.Text type="secondary">{count(cut, "value")} more like these are not drawn.</Typography.Text>
      ) : null}
    </section>
  );
}

/** Long lists open at their first elements only, and the way to `at` is open. */
function initiallyClosed(rows: Row[], at?: string): Set<number> {
  const openElements = 3;
  const closed = new Set<number>();
  for (const r of rows) {
    if (r.node.children && r.depth > 0 && (r.node.index ?? 0) >= openElements && !at?.startsWith(`${r.id}/`))
      closed.add(r.index);
  }
  return closed;
}
