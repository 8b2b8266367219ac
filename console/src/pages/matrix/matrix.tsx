import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Alert, Button, Checkbox, Flex, Select, Table, Tag, Tooltip, Typography } from "antd";
import { useMemo, useState } from "react";
import { Link, useNavigate, useParams, useSearchParams } from "react-router";
import { api, take, type Matrix, type MatrixCaller, type MatrixRow } from "../../api/client";
import { changed, keys } from "../../api/keys";
import { ClassMark } from "../../shared/classes";
import { count, time } from "../../shared/format";
import { mayChange } from "../../shared/repeat";
import { useMay } from "../../shared/session";
import { Heading } from "../../shared/shell";
import { Empty, Failed, Loading, useFailed } from "../../shared/states";
import { Code } from "../../shared/tags";

type Cell = MatrixRow["cells"][number];

const signs: Record<Cell, { sign: string; word: string }> = {
  theirs: { sign: "@", word: "another person's" },
  leaking: { sign: "‼", word: "leaking" },
  sent: { sign: "+", word: "sent, no contract" },
  granted: { sign: "✓", word: "granted" },
  absent: { sign: "−", word: "granted, not sent" },
  withheld: { sign: "·", word: "withheld" },
  refused: { sign: "", word: "refused" },
};

const nameOf = (c: MatrixCaller) => `${c.audience || "everybody"}${c.person ? ` (${c.person})` : ""}`;

/** One call made as every audience: before it is made, and what came back. */
export default function MatrixPage() {
  const { batch } = useParams();
  return batch ? <Made batch={Number(batch)} /> : <Preview />;
}

/** What will be sent where, and the button that sends it. */
function Preview() {
  const [asked] = useSearchParams();
  const navigate = useNavigate();
  const queries = useQueryClient();
  const failed = useFailed();
  const [writes, setWrites] = useState(false);
  const capture = Number(asked.get("capture")) || undefined;
  const endpoint = asked.get("endpoint") ?? undefined;
  const call = capture ? { capture } : { endpoint };
  const preview = useQuery({
    queryKey: keys.matrix({ ...call, writes }),
    queryFn: () =>
      take(api.POST("/api/v1/matrices", { body: { ...call, writes: writes || undefined, preview: true } })),
    retry: false,
  });
  const make = useMutation({
    mutationFn: () => take(api.POST("/api/v1/matrices", { body: { ...call, writes: writes || undefined } })),
    onSuccess: (m) => {
      void changed(queries, "captures");
      navigate(`/matrix/${m.batch_id}`, { replace: true });
    },
    onError: failed,
  });
  const command = `inkret capture matrix ${capture ? `--capture ${capture}` : `--endpoint ${endpoint}`}${writes ? " --writes" : ""}`;
  if (preview.isPending) return <Loading what="what would be sent" />;
  if (preview.error && !writes)
    return (
      <>
        <Heading title="Audience matrix">The same call, as every audience</Heading>
        <Failed error={preview.error} again={() => preview.refetch()} />
        <Writes checked={writes} onChange={setWrites} />
      </>
    );
  if (preview.error) return <Failed error={preview.error} again={() => preview.refetch()} />;
  const m = preview.data;
  const sent = m.callers.filter((c) => !c.left_out);
  return (
    <>
      <Heading title="Audience matrix" aside={<Link to={`/endpoints/${m.endpoint_id}`}>{m.endpoint}</Link>}>
        The same call, as every audience
      </Heading>
      <div className="stack">
        <section className="sheet" aria-label="What will be sent">
          <Typography.Title level={2}>What will be sent</Typography.Title>
          <p>
            <Code>{m.call}</Code> to <Code>{m.server ?? "no server"}</Code>, one call after the other. Nothing was sent
            yet.
          </p>
          <Table<MatrixCaller>
            size="small"
            pagination={false}
            rowKey={nameOf}
            dataSource={m.callers}
            aria-label="Callers"
            columns={[
              { title: "As", width: 220, render: (_, c) => nameOf(c) },
              {
                title: "With",
                render: (_, c) =>
                  c.left_out ? (
                    <Typography.Text type="warning">no call: {c.left_out}</Typography.Text>
                  ) : c.fields.length > 0 ? (
                    <>
                      <Code>{c.fields.join(", ")}</Code> as kept
                    </>
                  ) : (
                    "no credentials"
                  ),
              },
            ]}
          />
          {m.callers.some((c) => c.left_out) && (
            <p>
              A lead keeps credentials: <Code copyable>{"inkret service credentials set AUDIENCE --person NAME"}</Code>
            </p>
          )}
          {mayChange(m.call.split(" ")[0] ?? "") && <Writes checked={writes} onChange={setWrites} />}
          <Flex gap={12} align="center" wrap className="above-8">
            <Button type="primary" loading={make.isPending} disabled={sent.length === 0} onClick={() => make.mutate()}>
              {`Make ${count(sent.length, "call")}`}
            </Button>
            <Code copyable>{command}</Code>
          </Flex>
          {make.isPending && <Alert className="above-8" type="info" title="Calling, one after the other…" />}
        </section>
      </div>
    </>
  );
}

function Writes({ checked, onChange }: { checked: boolean; onChange: (on: boolean) => void }) {
  return (
    <Checkbox checked={checked} onChange={(e) => onChange(e.target.checked)}>
      The call may change something at the server; make it all the same (for leads)
    </Checkbox>
  );
}

/** The answers side by side. */
function Made({ batch }: { batch: number }) {
  const matrix = useQuery({
    queryKey: keys.matrix(batch),
    queryFn: () => take(api.GET("/api/v1/matrices/{batch_id}", { params: { path: { batch_id: batch } } })),
  });
  if (matrix.isPending) return <Loading what="the matrix" />;
  if (matrix.error) return <Failed error={matrix.error} again={() => matrix.refetch()} />;
  return <Shown m={matrix.data} />;
}

function Shown({ m }: { m: Matrix }) {
  const may = useMay("reviewer", m.service);
  const [only, setOnly] = useState<"all" | "differs" | "amiss">("all");
  const rows = useMemo(
    () =>
      m.rows.filter((r) =>
        only === "differs"
          ? r.differs
          : only === "amiss"
            ? r.cells.some((c) => c === "leaking" || c === "theirs")
            : true,
      ),
    [m.rows, only],
  );
  const save = () => {
    const lines = [
      ["member", "class", "differs", ...m.callers.map(nameOf)],
      ...m.rows.map((r) => [
        r.path,
        r.class ?? "",
        String(r.differs),
        ...r.cells.map((c, i) => (c === "refused" ? String(m.callers[i]?.status ?? "no answer") : c)),
      ]),
    ];
    const text = lines.map((l) => l.map((v) => `"${v.replaceAll('"', '""')}"`).join(",")).join("\r\n");
    const link = document.createElement("a");
    link.href = URL.createObjectURL(new Blob([text], { type: "text/csv" }));
    link.download = `matrix-${m.batch_id}.csv`;
    link.click();
    URL.revokeObjectURL(link.href);
  };
  return (
    <>
      <Heading title="Audience matrix" aside={<Link to={`/endpoints/${m.endpoint_id}`}>{m.endpoint}</Link>}>
        <Code>{m.call}</Code> {m.made && <Typography.Text type="secondary">{time(m.made)}</Typography.Text>}
      </Heading>
      <Flex gap={12} wrap align="center" className="below-12">
        <Select
          aria-label="Which members"
          value={only}
          onChange={setOnly}
          className="least-200"
          options={[
            { value: "all", label: `all ${count(m.rows.length, "member")}` },
            { value: "differs", label: "where callers differ" },
            { value: "amiss", label: "leaking or another person's" },
          ]}
        />
        <Button onClick={save}>Save as CSV</Button>
        {may && <Link to={`/matrix?capture=${m.capture_id}`}>Make it again…</Link>}
        <Code copyable>{`inkret capture matrix --batch ${m.batch_id}`}</Code>
      </Flex>
      <Table<MatrixRow>
        size="small"
        className="matrix"
        rowKey="path"
        dataSource={rows}
        aria-label="Members by caller"
        pagination={{ pageSize: 100, hideOnSinglePage: true, showSizeChanger: false }}
        rowClassName={(r) => (r.differs ? "differs" : "")}
        locale={{
          emptyText: <Empty title={m.rows.length === 0 ? "Nobody was given a body" : "There is no such member"} />,
        }}
        columns={[
          { title: "Member", render: (_, r) => <Code>{r.path}</Code> },
          { title: "Class", width: 100, render: (_, r) => r.class && <ClassMark value={r.class} /> },
          ...m.callers.map((c, i) => ({
            key: nameOf(c),
            width: 150,
            title: <Caller c={c} />,
            render: (_: unknown, r: MatrixRow) => <CellMark cell={r.cells[i]!} caller={c} />,
          })),
        ]}
      />
      {m.more > 0 && <p>{count(m.more, "more member")} are left out.</p>}
    </>
  );
}

function Caller({ c }: { c: MatrixCaller }) {
  return (
    <Flex vertical>
      <span>{nameOf(c)}</span>
      <Tooltip title={c.missing}>
        <Link to={`/captures/${c.capture_id}`}>
          <Tag variant="outlined" color={(c.status ?? 500) < 400 ? undefined : "default"}>
            {c.status ?? "no answer"}
          </Tag>
        </Link>
      </Tooltip>
    </Flex>
  );
}

function CellMark({ cell, caller }: { cell: Cell; caller: MatrixCaller }) {
  if (cell === "refused") return <Typography.Text type="secondary">{caller.status ?? "no answer"}</Typography.Text>;
  return (
    <span className={`matrix-cell matrix-${cell}`}>
      <span aria-hidden>{signs[cell].sign}</span> {signs[cell].word}
    </span>
  );
}
