import { Table, Typography } from "antd";
import { useMemo } from "react";
import type { ClassOrNone, WireNode } from "../../api/client";
import { ClassMark } from "../../shared/classes";
import { bytes } from "../../shared/format";
import { Code } from "../../shared/tags";
import { pathBelow } from "../../shared/wire/path";

interface Covered {
  path: string;
  pointer: string;
  line: number;
  class: string;
  values: number;
  bytes: number;
}

/** What each grant covered, elements of a list taken together. */
function coveredBy(body: WireNode): Covered[] {
  const all = new Map<string, Covered>();
  const visit = (n: WireNode, path: string) => {
    if ((n.mark === "granted" || n.mark === "open") && n.line && n.value !== undefined) {
      const key = `${path} ${n.line}`;
      const known = all.get(key) ?? {
        path,
        pointer: n.pointer ?? "",
        line: n.line,
        class: n.class ?? "",
        values: 0,
        bytes: 0,
      };
      known.values++;
      known.bytes += n.bytes;
      all.set(key, known);
    }
    n.children?.forEach((child) => visit(child, pathBelow(path, child)));
  };
  visit(body, "$");
  return [...all.values()].sort((a, b) => a.line - b.line);
}

export function CoveringGrants({ body, onChoose }: { body: WireNode; onChoose: (pointer: string) => void }) {
  const all = useMemo(() => coveredBy(body), [body]);
  if (all.length === 0) return <Typography.Text type="secondary">No grant covers anything in it.</Typography.Text>;
  return (
    <Table<Covered>
      size="small"
      aria-label="Grants"
      rowKey={(g) => `${g.path} ${g.line}`}
      dataSource={all}
      pagination={{ pageSize: 15, hideOnSinglePage: true, showSizeChanger: false }}
      columns={[
        {
          title: "Covers",
          render: (_, g) => (
            <Typography.Link onClick={() => onChoose(g.pointer)}>
              <Code>{g.path}</Code>
            </Typography.Link>
          ),
        },
        { title: "Class", width: 80, render: (_, g) => (g.class ? <ClassMark value={g.class as ClassOrNone} /> : "") },
        { title: "Line", width: 56, align: "right", dataIndex: "line" },
        { title: "Values", width: 64, align: "right", dataIndex: "values" },
        { title: "Bytes", width: 72, align: "right", render: (_, g) => bytes(g.bytes) },
      ]}
    />
  );
}
