import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Alert, App, Button, DatePicker, Descriptions, Flex, Form, Input, Select, Table, Timeline, Typography } from "antd";
import type { Dayjs } from "dayjs";
import { Link, useParams } from "react-router";
import { api, ApiProblem, take, type Finding, type FindingDetail, type State } from "../../api/client";
import { ago, bytes, count, time } from "../../shared/format";
import { useMay } from "../../shared/session";
import { mayChange, Repeat } from "../../shared/repeat";
import { Heading } from "../../shared/shell";
import { Empty, Failed, Loading } from "../../shared/states";
import { Code, SeverityMark, StateMark, stateWords } from "../../shared/tags";
import { WireView } from "../../shared/wire/wire";

export default function FindingPage() {
  const { id = "" } = useParams();
  const finding = useQuery({ queryKey: ["finding", id], queryFn: () => take(api.GET("/api/v1/findings/{finding_id}", { params: { path: { finding_id: id } } })) });
  if (finding.isPending) return <Loading what="the finding" />;
  if (finding.error) return <Failed error={finding.error} again={() => finding.refetch()} />;
  const { finding: f } = finding.data;
  return (
    <>
      <Heading title={`${f.kind} at ${f.path}`} aside={<StateMark state={f.state} until={f.waived_until} />}>
        <SeverityMark severity={f.severity} /> <Link to={`/kinds/${f.kind}`} title="What this kind means">{f.kind}</Link> <Code copyable>{f.path}</Code>
      </Heading>
      <div className="split">
        <div className="stack">
          {finding.data.prove && (
            <Alert
              type="info"
              showIcon
              title="It awaits proof: a later capture of the place that no longer shows it closes it."
              description={<Code copyable>{finding.data.prove}</Code>}
            />
          )}
          <Facts d={finding.data} />
          <Decide d={finding.data} />
          <History d={finding.data} />
        </div>
        <div className="stack">
          <Evidence d={finding.data} />
          <Elsewhere all={finding.data.same_value} label="The same value elsewhere" title={(n) => `The same value leaks at ${n}`} />
          <Elsewhere all={finding.data.elsewhere.filter((f) => !finding.data.same_value.some((s) => s.id === f.id))} label="The same field elsewhere" title={(n) => `The same field leaks, with other values, at ${n}`} />
        </div>
      </div>
    </>
  );
}

function Facts({ d }: { d: FindingDetail }) {
  const f = d.finding;
  const rows: [string, React.ReactNode][] = [
    ["Why", f.why],
    ["Endpoint", <Link to={`/endpoints/${f.endpoint_id}`}>{f.endpoint}</Link>],
  ];
  if (f.audience) rows.push(["Audience", `${f.audience}${f.audience_by ? `, ${f.audience_by}` : ""}`]);
  if (f.status) rows.push(["Status", f.status]);
  if (f.direction === "request") rows.push(["Where", "in the request"]);
  if (f.field) rows.push(["Field", <Link to={`/findings?state=any&entity=${f.entity}&field=${f.field}`}>{`${f.entity}.${f.field}`}</Link>]);
  if (f.class) rows.push(["Class", f.class]);
  if (f.sample) rows.push(["Sample", <Code>{f.sample}</Code>]);
  rows.push(["Seen", `${count(f.spots, "spot")} in ${count(f.captures, "capture")}, ${bytes(f.bytes)}`]);
  rows.push(["First, last", <span title={`${time(f.first_seen)} – ${time(f.last_seen)}`}>{`${ago(f.first_seen)}, ${ago(f.last_seen)}`}</span>]);
  if (d.grant) {
    const place = (
      <div>
        <Code copyable>{`${d.grant.file}:${d.grant.line}`}</Code>
        {d.grant.text && <pre className="code">{d.grant.text}</pre>}
      </div>
    );
    rows.push(["Contract", place]);
  }
  rows.push(["Weakness", `CWE-${f.cwe}`], ["Fingerprint", <Code copyable>{f.id}</Code>]);
  return (
    <section className="sheet" aria-label="What and where">
      <Descriptions size="small" column={1} items={rows.map(([label, children]) => ({ key: label, label, children }))} />
      {d.mend && <Alert type="info" title="How it is usually mended" description={d.mend} style={{ marginTop: 8 }} />}
    </section>
  );
}

interface Decision {
  to?: State;
  comment?: string;
  until?: Dayjs;
}

/** Moving a finding along, or saying something about it. */
function Decide({ d }: { d: FindingDetail }) {
  const queries = useQueryClient();
  const { message } = App.useApp();
  const [form] = Form.useForm<Decision>();
  const to = Form.useWatch("to", form);
  const mayMove = useMay("reviewer");
  const path = { finding_id: d.finding.id };
  const decide = useMutation({
    mutationFn: ({ to, comment, until }: Decision) =>
      to
        ? take(api.POST("/api/v1/findings/{finding_id}/moves", { params: { path }, body: { to, comment, until: to === "waived" ? until?.format("YYYY-MM-DD") : undefined } }))
        : take(api.POST("/api/v1/findings/{finding_id}/comments", { params: { path }, body: { text: comment ?? "" } })),
    onSuccess: (now, sent) => {
      queries.setQueryData(["finding", d.finding.id], now);
      queries.invalidateQueries({ queryKey: ["findings"] });
      queries.invalidateQueries({ queryKey: ["home"] });
      form.resetFields();
      message.success(sent.to ? `Moved to ${stateWords[sent.to]}` : "Comment added");
    },
  });
  const needsReason = to === "waived" || to === "not-a-leak";
  return (
    <section className="sheet" aria-label="Decide">
      <Typography.Title level={2}>Decide</Typography.Title>
      <Form form={form} layout="vertical" requiredMark={false} onFinish={decide.mutate} disabled={decide.isPending}>
        {mayMove && d.moves.length > 0 && (
          <Form.Item label="Move to" name="to">
            <Select allowClear showSearch={{ optionFilterProp: "label" }} placeholder="stays where it is" options={d.moves.map((s) => ({ value: s, label: stateWords[s] }))} />
          </Form.Item>
        )}
        {d.finding.state === "closed" && <Typography.Paragraph type="secondary">Closed by proof. It returns by itself when it is captured again.</Typography.Paragraph>}
        {to === "waived" && (
          <Form.Item label="Until (last day)" name="until" rules={[{ required: true, message: "A waiver ends on a day" }]}>
            <DatePicker disabledDate={(day) => day.valueOf() < Date.now() - 86_400_000} />
          </Form.Item>
        )}
        <Form.Item label={needsReason ? "Reason" : "Comment"} name="comment" rules={[{ required: needsReason || !to, message: needsReason ? "Say why, for whoever reads it later" : "Say something, or choose a state" }]}>
          <Input.TextArea rows={3} maxLength={10_000} />
        </Form.Item>
        {decide.error && (
          <Form.Item>
            <Alert role="alert" type="error" showIcon title={decide.error instanceof ApiProblem ? decide.error.message : "This did not reach the service; what you wrote is still here."} />
          </Form.Item>
        )}
        <Button type="primary" htmlType="submit" loading={decide.isPending}>
          {to ? `Move to ${stateWords[to]}` : "Comment"}
        </Button>
      </Form>
    </section>
  );
}

function History({ d }: { d: FindingDetail }) {
  return (
    <section className="sheet" aria-label="History">
      <Typography.Title level={2}>History</Typography.Title>
      <Timeline
        items={d.history.map((e) => ({
          content: (
            <>
              {e.kind === "found" && <>found in a recording of {e.author}</>}
              {e.kind === "comment" && <>{e.author} said</>}
              {e.revision && (
                <>
                  <Link to={`/contracts/${encodeURIComponent(d.finding.service)}/revisions/${e.revision}`}>revision {e.revision}</Link> of the contracts permits it;{" "}
                </>
              )}
              {e.kind === "move" && (
                <>
                  {e.author}: {e.from && stateWords[e.from]} → <b>{e.to && stateWords[e.to]}</b> {e.until && `until ${e.until}`}
                  {e.capture_id && (
                    <>
                      , proven by <Link to={`/captures/${e.capture_id}`}>capture {e.capture_id}</Link>
                    </>
                  )}
                </>
              )}{" "}
              <Typography.Text type="secondary" title={time(e.at)}>
                {ago(e.at)}
              </Typography.Text>
              {e.comment && <Typography.Paragraph style={{ whiteSpace: "pre-wrap", margin: 0 }}>{e.comment}</Typography.Paragraph>}
            </>
          ),
        }))}
      />
    </section>
  );
}

/** The body of the latest capture that shows it, at the place. */
function Evidence({ d }: { d: FindingDetail }) {
  const latest = d.evidence[0];
  const id = latest?.capture_id ?? 0;
  const capture = useQuery({
    queryKey: ["capture", id],
    queryFn: () => take(api.GET("/api/v1/captures/{capture_id}", { params: { path: { capture_id: id } } })),
    enabled: id > 0,
  });
  return (
    <section className="sheet" aria-label="Evidence">
      <Flex justify="space-between" gap={8}>
        <Typography.Title level={2}>Evidence</Typography.Title>
        {latest && (
          <Repeat calls={{ capture: id }} service={d.finding.service} audience={d.finding.audience} unsafe={mayChange(d.finding.endpoint.split(" ")[0] ?? "")}>
            Make the call again…
          </Repeat>
        )}
      </Flex>
      {!latest && <Empty title="The captures that showed it are no longer kept" />}
      {latest && (
        <Flex vertical gap={4} style={{ marginBottom: 8 }}>
          {d.evidence.slice(0, 5).map((e) => (
            <span key={e.capture_id}>
              <Link to={`/captures/${e.capture_id}?at=${encodeURIComponent(e.pointer)}`}>{`${e.batch}, entry ${e.entry}`}</Link>{" "}
              <Typography.Text type="secondary">
                <Code>{e.pointer || "(whole body)"}</Code> at byte {e.offset}, {bytes(e.bytes)}
              </Typography.Text>
            </span>
          ))}
          {d.evidence.length > 5 && <Typography.Text type="secondary">and {d.evidence.length - 5} more</Typography.Text>}
        </Flex>
      )}
      {capture.isLoading && <Loading what="the body" />}
      {capture.error && <Failed error={capture.error} again={() => capture.refetch()} />}
      {capture.data?.body && <WireView body={capture.data.body} cut={capture.data.cut} at={latest?.pointer} judgedBy={capture.data.judged_by} />}
    </section>
  );
}

function Elsewhere({ all, label, title }: { all: Finding[]; label: string; title: (places: string) => string }) {
  if (all.length === 0) return null;
  return (
    <section className="sheet" aria-label={label}>
      <Typography.Title level={2}>{title(all.length < 20 ? count(all.length, "other place") : "20 other places and more")}</Typography.Title>
      <Table<Finding>
        size="small"
        pagination={false}
        rowKey="id"
        showHeader={false}
        dataSource={all}
        columns={[
          { width: 100, render: (_, f) => <SeverityMark severity={f.severity} /> },
          {
            render: (_, f) => (
              <>
                <Link to={`/findings/${f.id}`}>{f.endpoint}</Link> <Typography.Text type="secondary">{f.audience}</Typography.Text> <Code>{f.path}</Code>
              </>
            ),
          },
          { width: 130, render: (_, f) => <StateMark state={f.state} until={f.waived_until} /> },
        ]}
      />
    </section>
  );
}
