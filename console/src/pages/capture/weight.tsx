import { Flex, Typography } from "antd";
import { useMemo } from "react";
import type { WireNode } from "../../api/client";
import { bytes, share } from "../../shared/format";
import { pathBelow } from "../../shared/wire/path";

// What part of a body anybody needs: its weight by path, elements of a list taken
// together, each level below the one that holds it.

interface Part {
  name: string;
  path: string;
  pointer: string; // of the first value there
  bytes: number;
  over: number; // of them not granted
  children: Part[];
}

const names = (n: WireNode) => (n.index !== undefined ? "[*]" : (n.name ?? (n.inner ? ">>" : "body")));

/** Adds a value to what is known of its path. */
function add(part: Part, n: WireNode, overAbove: boolean) {
  const over = overAbove || n.mark === "ungranted" || n.mark === "foreign";
  part.bytes += n.bytes;
  let below = 0;
  for (const child of n.children ?? []) {
    const name = names(child);
    let to = part.children.find((c) => c.name === name);
    if (!to)
      part.children.push(
        (to = {
          name,
          path: pathBelow(part.path, child),
          pointer: child.pointer ?? "",
          bytes: 0,
          over: 0,
          children: [],
        }),
      );
    below += add(to, child, over);
  }
  const mine = over ? n.bytes : below;
  part.over += mine;
  return mine;
}

export function weigh(body: WireNode): Part {
  const root: Part = { name: "body", path: "$", pointer: "", bytes: 0, over: 0, children: [] };
  add(root, body, false);
  return root;
}

interface Cell {
  part: Part;
  left: number;
  width: number;
  level: number;
}

const levels = 9;
/** The smallest share of the picture that is drawn. */
const narrowest = 0.004;

function cellsOf(root: Part): Cell[] {
  const cells: Cell[] = [];
  const place = (part: Part, left: number, level: number) => {
    const width = part.bytes / Math.max(root.bytes, 1);
    if (width < narrowest || level >= levels) return;
    cells.push({ part, left, width, level });
    let at = left;
    for (const child of [...part.children].sort((a, b) => b.bytes - a.bytes)) {
      place(child, at, level + 1);
      at += child.bytes / Math.max(root.bytes, 1);
    }
  };
  place(root, 0, 0);
  return cells;
}

/** The heaviest parts that nobody needs, none inside another. */
function heaviest(root: Part, most: number): Part[] {
  const all: Part[] = [];
  const visit = (p: Part) => {
    if (p.bytes > 0 && p.over === p.bytes && p.name !== "[*]") all.push(p);
    else p.children.forEach(visit);
  };
  visit(root);
  return all.sort((a, b) => b.bytes - a.bytes).slice(0, most);
}

export function Weight({
  body,
  judgedBy,
  onChoose,
}: {
  body: WireNode;
  judgedBy: string;
  onChoose: (pointer: string) => void;
}) {
  const root = useMemo(() => weigh(body), [body]);
  const cells = useMemo(() => cellsOf(root), [root]);
  const needless = useMemo(() => heaviest(root, 3), [root]);
  const depth = Math.max(...cells.map((c) => c.level)) + 1;
  const swept = judgedBy !== "contract";
  const kind = (p: Part) =>
    swept ? "other" : p.over === p.bytes && p.bytes > 0 ? "over" : p.over === 0 ? "granted" : "other";
  return (
    <>
      {swept && (
        <Typography.Paragraph type="secondary">
          No contract fits this response, so nothing says what of it anybody needs.
        </Typography.Paragraph>
      )}
      <Flex gap={14} wrap className="size-12 below-6">
        <span>
          <i className="weight-cell weight-key granted" /> somebody may need it
        </span>
        <span>
          <i className="weight-cell weight-key over" /> no grant covers it: {bytes(root.over)},{" "}
          {share(root.over, root.bytes)}
        </span>
        <span>
          <i className="weight-cell weight-key other" /> both inside
        </span>
      </Flex>
      <div
        className="weight"
        role="group"
        aria-label={`Weight by path: ${share(root.over, root.bytes)} of ${bytes(root.bytes)} is excess`}
      >
        {Array.from({ length: depth }, (_, level) => (
          <div className="weight-level" key={level}>
            {cells
              .filter((c) => c.level === level)
              .map((c) => (
                <button
                  type="button"
                  key={c.part.path + c.left}
                  className={`weight-cell ${kind(c.part)}`}
                  style={{ left: `${c.left * 100}%`, width: `${c.width * 100}%` }}
                  title={`${c.part.path || "body"}: ${bytes(c.part.bytes)}, ${bytes(c.part.over)} of them excess`}
                  aria-label={`${c.part.path || "body"}: ${bytes(c.part.bytes)}, ${bytes(c.part.over)} of them excess`}
                  onClick={() => onChoose(c.part.pointer)}
                >
                  {c.width > 0.03 ? c.part.name : ""}
                </button>
              ))}
          </div>
        ))}
      </div>
      {needless.length > 0 && (
        <Typography.Text type="secondary">
          Most of what nobody needs:{" "}
          {needless.map((p, i) => (
            <span key={p.path}>
              {i > 0 && ", "}
              <Typography.Link className="code" onClick={() => onChoose(p.pointer)}>
                {p.path}
              </Typography.Link>{" "}
              {bytes(p.bytes)}
            </span>
          ))}
        </Typography.Text>
      )}
    </>
  );
}
