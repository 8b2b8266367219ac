import { InboxOutlined } from "@ant-design/icons";
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { Alert, Button, Flex, Input, Progress, Select, Typography, Upload } from "antd";
import { useState } from "react";
import { Link, useNavigate } from "react-router";
import { api, ApiProblem, take, upload, type Batch } from "../../api/client";
import { count } from "../../shared/format";
import { Failed, Loading } from "../../shared/states";
import { changed, keys } from "../../api/keys";

interface Sent {
  file: string;
  share: number;
  batch?: Batch;
  error?: unknown;
}

/** Uploads recordings by drag and drop, with progress and a result for each. */
export function Send() {
  const queries = useQueryClient();
  const services = useQuery({ queryKey: keys.services(), queryFn: () => take(api.GET("/api/v1/services")) });
  const [service, setService] = useState("");
  const [audience, setAudience] = useState("");
  const [request, setRequest] = useState("");
  const [mapping, setMapping] = useState<{ name: string; text: string }>();
  const [sent, setSent] = useState<Sent[]>([]);
  if (services.isPending) return <Loading what="the services" />;
  if (services.error) return <Failed error={services.error} again={() => services.refetch()} />;
  const chosen = services.data.find((s) => s.name === service) ?? services.data[0];
  if (!chosen) {
    return (
      <Alert
        type="info"
        showIcon
        title="There is no service yet to judge recordings by"
        description={<Link to="/new">Begin one: a recording is enough to draft its contracts</Link>}
      />
    );
  }
  const send = async (file: File) => {
    const name = chosen.name;
    const change = (c: Partial<Sent>) => setSent((old) => old.map((s) => (s.file === file.name ? { ...s, ...c } : s)));
    setSent((old) => [{ file: file.name, share: 0 }, ...old.filter((s) => s.file !== file.name)]);
    try {
      change({
        batch: await upload(name, { audience, request, audiences: mapping?.text }, file, (share) => change({ share })),
        share: 1,
      });
      void changed(queries, "captures");
    } catch (error) {
      change({ error });
    }
  };
  return (
    <section className="sheet" aria-label="Send a recording">
      <Flex gap={8} className="below-8" wrap>
        <Select
          aria-label="Service"
          className="least-180"
          value={chosen.name}
          onChange={setService}
          options={services.data.map((s) => ({ value: s.name, label: s.name }))}
        />
        <Select
          aria-label="Who made the calls"
          className="least-240"
          value={audience}
          onChange={setAudience}
          options={[
            { value: "", label: "audience: recognised from each call" },
            ...(chosen.audiences ?? []).map((a) => ({ value: a, label: `audience: ${a}` })),
          ]}
        />
        <Input
          aria-label="The request of responses that are recorded alone"
          placeholder="request of curl -i output: GET https://…"
          className="wide-300"
          value={request}
          onChange={(e) => setRequest(e.target.value)}
        />
        <Upload
          accept=".yaml,.yml,.json"
          showUploadList={false}
          className="mapping-upload"
          beforeUpload={(f) => {
            void f.text().then((text) => setMapping({ name: f.name, text }));
            return false;
          }}
        >
          <Button>{mapping ? `audiences: ${mapping.name}` : "Mapping of audiences…"}</Button>
        </Upload>
        {mapping && (
          <Button onClick={() => setMapping(undefined)} aria-label="Take the mapping of audiences away">
            ✕
          </Button>
        )}
      </Flex>
      <Upload.Dragger
        multiple
        showUploadList={false}
        className="recording-upload"
        customRequest={({ file }) => void send(file as File)}
      >
        <p>
          <InboxOutlined aria-hidden className="size-24" />
        </p>
        <p>Drop recordings here, or press to choose files</p>
        <p className="faint">
          HAR, HTTP messages as curl -i prints them, WARC, capture lines; also packed with gzip, zstd or zip
        </p>
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
    return (
      <Alert
        role="alert"
        className="above-8"
        type="error"
        showIcon
        title={`${sent.file} was not taken in`}
        description={error instanceof ApiProblem ? `${error.message}. ${error.next ?? ""}` : String(error)}
      />
    );
  }
  if (!b) {
    return (
      <Flex gap={8} align="center" className="above-8">
        <span>{sent.file}</span>{" "}
        <Progress percent={Math.round(sent.share * 100)} size="small" aria-label={`Sending ${sent.file}`} />
        {sent.share === 1 && <Typography.Text type="secondary">judging…</Typography.Text>}
      </Flex>
    );
  }
  const says = b.repeated
    ? "was taken in before; nothing changed"
    : `${count(b.captures, "capture")}, ${b.judged} judged, ${b.skipped} skipped: ${count(b.findings, "finding")}, ${b.new_findings} of them new`;
  return (
    <Alert
      className="above-8"
      type={b.problem || b.new_findings > 0 ? "warning" : "success"}
      showIcon
      title={`${sent.file}: ${says}`}
      description={
        <>
          {b.problem && <div>{b.problem}</div>}
          {!!b.incomplete && <div>{`${b.incomplete} incomplete: judged as far as they go; they prove no repair`}</div>}
          {b.skip_reasons?.map((r) => (
            <div key={r.reason}>{`skipped ${r.captures}: ${r.reason}`}</div>
          ))}
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
