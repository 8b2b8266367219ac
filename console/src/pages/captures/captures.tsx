import { InboxOutlined } from "@ant-design/icons";
import { keepPreviousData, useQuery, useQueryClient } from "@tanstack/react-query";
import { Alert, Button, Flex, Progress, Select, Table, Typography, Upload } from "antd";
import { useState } from "react";
import { Link, useNavigate } from "react-router";
import { api, ApiProblem, take, upload, type Batch, type Capture } from "../../api/client";
import { useAddress } from "../../shared/address";
import { ago, bytes, count, time } from "../../shared/format";
import { useMay } from "../../shared/session";
import { Heading } from "../../shared/shell";
import { Empty, Failed, Loading } from "../../shared/states";
import { Code } from "../../shared/tags";

export default function Captures() {
  const { get } = useAddress();
  return get("batch") ? <BatchCaptures batch={Number(get("batch"))} /> : <Batches />;
}

function Batches() {
  const { get, set } = useAddress();
  const page = Number(get("page")) || 1;
  const mayUpload = useMay("reviewer");
  const list = useQuery({ queryKey: ["batches", page], queryFn: () => take(api.GET("/api/v1/batches", { params: { query: { page, size: 50 } } })), placeholderData: keepPreviousData });
  return (
    <>
      <Heading title="Captures">Recordings</Heading>
      <div className="stack">
        {mayUpload && <Send />}
        {list.error ? (
          <Failed error={list.error} again={() => list.refetch()} />
        ) : (
          <Table<Batch>
            rowKey="id"
            size="small"
            aria-label="Recordings"
            loading={list.isPending}
            dataSource={list.data?.items}
            locale={{ emptyText: list.isPending ? " " : <Empty title="No recording yet">Drop a HAR file above: browsers write one from their network tools.</Empty> }}
            onChange={(p) => set({ page: p.current && p.current > 1 ? String(p.current) : "" })}
            pagination={{ current: page, pageSize: 50, total: list.data?.total, hideOnSinglePage: true, showSizeChanger: false }}
            columns={[
              {
                title: "Recording",
                render: (_, b) => (
                  <>
                    <Link to={`/captures?batch=${b.id}`}>{b.name}</Link>
                    {b.problem && (
                      <>
                        <br />
                        <Typography.Text type="warning">▲ {b.problem}</Typography.Text>
                      </>
                    )}
                  </>
                ),
              },
              { title: "Service", width: 150, dataIndex: "service" },
              { title: "Audience", width: 130, render: (_, b) => b.audience ?? "recognised" },
              { title: "Captures", width: 90, align: "right", dataIndex: "captures" },
              { title: "Skipped", width: 90, align: "right", dataIndex: "skipped" },
              { title: "Findings", width: 150, render: (_, b) => <Link to={`/findings?state=any&batch=${b.id}`}>{`${b.findings}, ${b.new_findings} new`}</Link> },
              { title: "Bytes", width: 100, align: "right", render: (_, b) => bytes(b.bytes) },
              { title: "Sent", width: 180, render: (_, b) => <span title={time(b.started)}>{`${b.author}, ${ago(b.started)}`}</span> },
            ]}
          />
        )}
      </div>
    </>
  );
}

interface Sent {
  file: string;
  share: number;
  batch?: Batch;
  error?: unknown;
}

/** Sending recordings by drag and drop, with progress and what came of each. */
function Send() {
  const queries = useQueryClient();
  const services = useQuery({ queryKey: ["services"], queryFn: () => take(api.GET("/api/v1/services")) });
  const [service, setService] = useState("");
  const [audience, setAudience] = useState("");
  const [sent, setSent] = useState<Sent[]>([]);
  if (services.isPending) return <Loading what="the services" />;
  if (services.error) return <Failed error={services.error} again={() => services.refetch()} />;
  const chosen = services.data.find((s) => s.name === service) ?? services.data[0];
  if (!chosen) {
    return <Alert type="info" showIcon title="Apply the contracts of a service first" description={<Code copyable>inkret contract apply contracts/</Code>} />;
  }
  const send = async (file: File) => {
    const name = chosen.name;
    const change = (c: Partial<Sent>) => setSent((old) => old.map((s) => (s.file === file.name ? { ...s, ...c } : s)));
    setSent((old) => [{ file: file.name, share: 0 }, ...old.filter((s) => s.file !== file.name)]);
    try {
      change({ batch: await upload(name, audience, file, (share) => change({ share })), share: 1 });
      for (const key of ["batches", "findings", "home", "endpoints", "captures"]) queries.invalidateQueries({ queryKey: [key] });
    } catch (error) {
      change({ error });
    }
  };
  return (
    <section className="sheet" aria-label="Send a recording">
      <Flex gap={8} style={{ marginBottom: 8 }} wrap>
        <Select aria-label="Service" style={{ minWidth: 180 }} value={chosen.name} onChange={setService} options={services.data.map((s) => ({ value: s.name, label: s.name }))} />
        <Select
          aria-label="Who made the calls"
          style={{ minWidth: 240 }}
          value={audience}
          onChange={setAudience}
          options={[{ value: "", label: "audience: recognised from each call" }, ...(chosen.audiences ?? []).map((a) => ({ value: a, label: `audience: ${a}` }))]}
        />
      </Flex>
      <Upload.Dragger multiple accept=".har,application/json" showUploadList={false} customRequest={({ file }) => void send(file as File)}>
        <p>
          <InboxOutlined aria-hidden style={{ fontSize: 24 }} />
        </p>
        <p>Drop HAR recordings here, or press to choose files</p>
      </Upload.Dragger>
      <div aria-live="polite">
        {sent.map((s) => (
          <SentResult key={s.file} sent={s} />
        ))}
      </div>
    </section>
  );
}

function SentResult({ sent }: { sent: Sent }) {
  const navigate = useNavigate();
  const { batch: b, error } = sent;
  if (error) {
    return <Alert role="alert" style={{ marginTop: 8 }} type="error" showIcon title={`${sent.file} was not taken in`} description={error instanceof ApiProblem ? `${error.message}. ${error.next ?? ""}` : String(error)} />;
  }
  if (!b) {
    return (
      <Flex gap={8} align="center" style={{ marginTop: 8 }}>
        <span>{sent.file}</span> <Progress percent={Math.round(sent.share * 100)} size="small" aria-label={`Sending ${sent.file}`} />
        {sent.share === 1 && <Typography.Text type="secondary">judging…</Typography.Text>}
      </Flex>
    );
  }
  const says = b.repeated ? "was taken in before; nothing changed" : `${count(b.captures, "capture")}, ${b.judged} judged, ${b.skipped} skipped: ${count(b.findings, "finding")}, ${b.new_findings} of them new`;
  return (
    <Alert
      style={{ marginTop: 8 }}
      type={b.problem || b.new_findings > 0 ? "warning" : "success"}
      showIcon
      title={`${sent.file}: ${says}`}
      description={
        <>
          {b.problem && <div>{b.problem}</div>}
          {b.skip_reasons?.map((r) => <div key={r.reason}>{`skipped ${r.captures}: ${r.reason}`}</div>)}
        </>
      }
      action={
        <Flex vertical gap={4}>
          <Button size="small" type="primary" onClick={() => navigate(`/findings?state=any&batch=${b.id}`)}>
            See its findings
          </Button>
          <Button size="small" onClick={() => navigate(`/captures?batch=${b.id}`)}>
            See its captures
          </Button>
        </Flex>
      }
    />
  );
}

function BatchCaptures({ batch }: { batch: number }) {
  const { get, set } = useAddress();
  const navigate = useNavigate();
  const page = Number(get("page")) || 1;
  const query = { batch, page, size: 50, leaking: get("show") === "leaking" || undefined, skipped: get("show") === "skipped" || undefined };
  const of = useQuery({ queryKey: ["batch", batch], queryFn: () => take(api.GET("/api/v1/batches/{batch_id}", { params: { path: { batch_id: batch } } })) });
  const list = useQuery({ queryKey: ["captures", query], queryFn: () => take(api.GET("/api/v1/captures", { params: { query } })), placeholderData: keepPreviousData });
  if (of.error) return <Failed error={of.error} />;
  return (
    <>
      <Heading title={of.data?.name ?? "Recording"} aside={<Link to={`/findings?state=any&batch=${batch}`}>{count(of.data?.findings ?? 0, "finding")}</Link>}>
        <Link to="/captures">Recordings</Link> / {of.data?.name}
      </Heading>
      {of.data?.problem && <Alert type="warning" showIcon title={of.data.problem} style={{ marginBottom: 8 }} />}
      <Select
        aria-label="Which captures"
        style={{ minWidth: 180, marginBottom: 12 }}
        value={get("show")}
        onChange={(show) => set({ show })}
        options={[
          { value: "", label: "all captures" },
          { value: "leaking", label: "with findings" },
          { value: "skipped", label: "skipped" },
        ]}
      />
      {list.error ? (
        <Failed error={list.error} again={() => list.refetch()} />
      ) : (
        <Table<Capture>
          rowKey="id"
          size="small"
          aria-label="Captures"
          loading={list.isPending || list.isPlaceholderData}
          dataSource={list.data?.items}
          locale={{ emptyText: list.isPending ? " " : <Empty title="No capture here" /> }}
          onRow={(c) => ({ onClick: () => navigate(`/captures/${c.id}`), style: { cursor: "pointer" } })}
          onChange={(p) => set({ page: p.current && p.current > 1 ? String(p.current) : "" })}
          pagination={{ current: page, pageSize: 50, total: list.data?.total, hideOnSinglePage: true, showSizeChanger: false }}
          columns={[
            { title: "Entry", width: 70, align: "right", dataIndex: "entry" },
            {
              title: "Call",
              render: (_, c) => (
                <>
                  <Link to={`/captures/${c.id}`}>
                    <Code>{`${c.method} ${c.url}`}</Code>
                  </Link>
                  {c.skipped && (
                    <>
                      <br />
                      <Typography.Text type="secondary">skipped: {c.skipped}</Typography.Text>
                    </>
                  )}
                </>
              ),
            },
            { title: "Audience", width: 140, dataIndex: "audience" },
            { title: "Status", width: 80, align: "right", dataIndex: "status" },
            { title: "Bytes", width: 90, align: "right", render: (_, c) => bytes(c.bytes) },
            { title: "Excess", width: 90, align: "right", render: (_, c) => bytes(c.excess_bytes) },
            { title: "Findings", width: 90, align: "right", dataIndex: "findings" },
          ]}
        />
      )}
    </>
  );
}
