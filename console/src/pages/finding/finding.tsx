import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import {
  Alert,
  App,
  Button,
  DatePicker,
  Descriptions,
  Flex,
  Form,
  Input,
  Select,
  Table,
  Timeline,
  Typography,
} from "antd";
import dayjs, { type Dayjs } from "dayjs";
import { useState } from "react";
import { Link, useParams } from "react-router";
import {
  api,
  ApiProblem,
  take,
  type Finding,
  type FindingDetail,
  type FindingsChange,
  type State,
} from "../../api/client";
import { ago, bytes, count, time } from "../../shared/format";
import { useMay, useSession } from "../../shared/session";
import { mayChange, Repeat } from "../../shared/repeat";
import { Heading } from "../../shared/shell";
import { Held, overdue, useLabels, usePeople } from "../../shared/people";
import { Said } from "../../shared/said";
import { Empty, Failed, Loading, useFailed } from "../../shared/states";
import { Code, SeverityMark, StateMark, stateWords } from "../../shared/tags";
import { WireView } from "../../shared/wire/wire";
import { changed, keys } from "../../api/keys";

export default function FindingPage() {
  const { id = "" } = useParams();
  const finding = useQuery({
    queryKey: keys.finding(id),
    queryFn: () => take(api.GET("/api/v1/findings/{finding_id}", { params: { path: { finding_id: id } } })),
  });
  if (finding.isPending) return <Loading what="the finding" />;
  if (finding.error) return <Failed error={finding.error} again={() => finding.refetch()} />;
  const { finding: f } = finding.data;
  return (
    <>
      <Heading
        title={`${f.kind} at ${f.path}`}
        aside={
          <Flex gap={8} align="center">
            <Follow d={finding.data} />
            <StateMark state={f.state} until={f.waived_until} />
          </Flex>
        }
      >
        <SeverityMark severity={f.severity} />{" "}
        <Link to={`/kinds/${f.kind}`} title="What this kind means">
          {f.kind}
        </Link>{" "}
        <Code copyable>{f.path}</Code>
      </Heading>
      <div className="split">
        <div className="stack">
          {finding.data.prove && (
            <Alert
              type="info"
              showIcon
              title="It awaits proof: a recording that covers the place and does not show it closes it."
              description={
                <>
                  <SoFar d={finding.data} />
                  <Code copyable>{finding.data.prove}</Code>
                </>
              }
            />
          )}
          {f.doubt && <Doubted d={finding.data} />}
          {f.waiver_asked && <AskedWaiver d={finding.data} />}
          <Facts d={finding.data} />
          <Hold d={finding.data} />
          <Decide d={finding.data} />
          <History d={finding.data} />
        </div>
        <div className="stack">
          <Proven d={finding.data} />
          <Evidence d={finding.data} />
          <Elsewhere
            all={finding.data.same_value}
            label="The same value elsewhere"
            title={(n) => `The same value leaks at ${n}`}
          />
          <Elsewhere
            all={finding.data.elsewhere.filter((f) => !finding.data.same_value.some((s) => s.id === f.id))}
            label="The same field elsewhere"
            title={(n) => `The same field leaks, with other values, at ${n}`}
          />
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
  if (f.field)
    rows.push([
      "Field",
      <Link to={`/findings?state=any&entity=${f.entity}&field=${f.field}`}>{`${f.entity}.${f.field}`}</Link>,
    ]);
  if (f.class) rows.push(["Class", f.class]);
  if (f.sample) rows.push(["Sample", <Code>{f.sample}</Code>]);
  rows.push(["Seen", `${count(f.spots, "spot")} in ${count(f.captures, "capture")}, ${bytes(f.bytes)}`]);
  rows.push([
    "First, last",
    <span title={`${time(f.first_seen)} – ${time(f.last_seen)}`}>{`${ago(f.first_seen)}, ${ago(f.last_seen)}`}</span>,
  ]);
  if (d.grant) {
    const place = (
      <div>
        <Code copyable>{`${d.grant.file}:${d.grant.line}`}</Code>
        {d.grant.text && <pre className="code">{d.grant.text}</pre>}
      </div>
    );
    rows.push(["Contract", place]);
  }
  if (f.state === "waived")
    rows.push(["Waiver", `until ${f.waived_until}${f.waiver_approver ? `, approved by ${f.waiver_approver}` : ""}`]);
  rows.push(["Weakness", `CWE-${f.cwe}`], ["Fingerprint", <Code copyable>{f.id}</Code>]);
  return (
    <section className="sheet" aria-label="What and where">
      <Descriptions
        size="small"
        column={1}
        items={rows.map(([label, children]) => ({ key: label, label, children }))}
      />
      {d.causes && (
        <Alert
          type="warning"
          title="What it likely comes of"
          description={d.causes.map((c) => (
            <div key={c.text}>
              {c.text}. {c.finding && <Link to={`/findings/${c.finding}`}>Look at that one</Link>}
              {c.entity && (
                <Link
                  to={`/findings?endpoint=${f.endpoint_id}&entity=${encodeURIComponent(c.entity)}&audience=${encodeURIComponent(f.audience)}`}
                >
                  All of them here
                </Link>
              )}
            </div>
          ))}
          className="above-8"
        />
      )}
      {d.mend && <Alert type="info" title="How it is usually mended" description={d.mend} className="above-8" />}
    </section>
  );
}

interface Decision {
  to?: State;
  comment?: string;
  until?: Dayjs;
}

/** Moves a finding, or adds a comment. */
function Decide({ d }: { d: FindingDetail }) {
  const queries = useQueryClient();
  const { message } = App.useApp();
  const [form] = Form.useForm<Decision>();
  const to = Form.useWatch("to", form);
  const mayMove = useMay("reviewer", d.finding.service);
  const path = { finding_id: d.finding.id };
  const decide = useMutation({
    mutationFn: ({ to, comment, until }: Decision) =>
      to
        ? take(
            api.POST("/api/v1/findings/{finding_id}/moves", {
              params: { path },
              body: { to, comment, until: to === "waived" ? until?.format("YYYY-MM-DD") : undefined },
            }),
          )
        : take(api.POST("/api/v1/findings/{finding_id}/comments", { params: { path }, body: { text: comment ?? "" } })),
    onSuccess: (now, sent) => {
      queries.setQueryData(keys.finding(d.finding.id), now);
      void changed(queries, "findings");
      form.resetFields();
      message.success(
        !sent.to
          ? "Comment added"
          : sent.to !== now.finding.state
            ? "Asked for: a lead who is somebody else decides"
            : `Moved to ${stateWords[sent.to]}`,
      );
    },
  });
  const needsReason = to === "waived" || to === "not-a-leak" || to === "closed";
  return (
    <section className="sheet" aria-label="Decide">
      <Typography.Title level={2}>Decide</Typography.Title>
      <Form form={form} layout="vertical" requiredMark={false} onFinish={decide.mutate} disabled={decide.isPending}>
        {mayMove && d.moves.length > 0 && (
          <Form.Item label="Move to" name="to">
            <Select
              allowClear
              showSearch={{ optionFilterProp: "label" }}
              placeholder="stays where it is"
              options={d.moves.map((s) => ({ value: s, label: stateWords[s] }))}
            />
          </Form.Item>
        )}
        {d.finding.state === "closed" && !d.finding.doubt && (
          <Typography.Paragraph type="secondary">
            Closed by proof. It returns by itself when it is captured again.
          </Typography.Paragraph>
        )}
        {to === "waived" && (
          <Form.Item
            label="Until (last day)"
            name="until"
            extra={waivedByTwo(d) && "A finding this grave is waived by two: it waits for a lead who approves it."}
            rules={[{ required: true, message: "A waiver ends on a day" }]}
          >
            <DatePicker disabledDate={(day) => day.valueOf() < Date.now() - 86_400_000} />
          </Form.Item>
        )}
        <Form.Item
          label={needsReason ? "Reason" : "Comment"}
          name="comment"
          rules={[
            {
              required: needsReason || !to,
              message: needsReason ? "Say why, for whoever reads it later" : "Say something, or choose a state",
            },
          ]}
        >
          <Input.TextArea
            rows={3}
            maxLength={10_000}
            placeholder={needsReason ? undefined : "Markdown; @name tells somebody"}
          />
        </Form.Item>
        {decide.error && (
          <Form.Item>
            <Alert
              role="alert"
              type="error"
              showIcon
              title={
                decide.error instanceof ApiProblem
                  ? decide.error.message
                  : "This did not reach the service; what you wrote is still here."
              }
            />
          </Form.Item>
        )}
        {to === "not-a-leak" && d.teaches && <Teaches d={d} />}
        <Button type="primary" htmlType="submit" loading={decide.isPending}>
          {to === "waived" && waivedByTwo(d)
            ? "Ask for the waiver"
            : to === "not-a-leak" && waivedByTwo(d)
              ? "Ask to take it for no leak"
              : to
                ? `Move to ${stateWords[to]}`
                : "Comment"}
        </Button>
      </Form>
    </section>
  );
}

const waivedByTwo = (d: FindingDetail) => d.finding.severity === "critical" || d.finding.severity === "high";

/** A waiver that waits for approval by a lead other than the one who asked. */
function AskedWaiver({ d }: { d: FindingDetail }) {
  const asked = d.finding.waiver_asked!;
  const session = useSession();
  const lead = useMay("lead", d.finding.service);
  const queries = useQueryClient();
  const failed = useFailed();
  const { message } = App.useApp();
  const [declining, setDeclining] = useState(false);
  const own = session.data?.id === asked.by.id;
  const waiver = asked.to === "waived";
  const why = d.history.filter((e) => e.kind === "waiver" && e.became === "asked for").at(-1)?.comment;
  const change = useMutation({
    mutationFn: (c: FindingsChange) =>
      take(api.POST("/api/v1/findings/changes", { body: { ids: [d.finding.id], ...c } })),
    onSuccess: (out) => {
      setDeclining(false);
      void changed(queries, "findings");
      const why = out.refused?.[0]?.why;
      if (why) void message.error(why);
    },
    onError: failed,
  });
  return (
    <Alert
      type="warning"
      showIcon
      title={`${own ? "You ask" : `${asked.by.name} asks`} ${waiver ? `for a waiver until ${asked.until}` : "to take it for no leak"}`}
      description={
        <>
          {why && <Said>{why}</Said>}
          {own ? "It waits for a lead who is somebody else." : lead ? "You decide." : "It waits for a lead."}
          {(lead || own) && !declining && (
            <Flex gap={8} className="above-8">
              {lead && !own && (
                <Button
                  type="primary"
                  loading={change.isPending}
                  onClick={() => change.mutate({ to: asked.to, until: asked.until })}
                >
                  {waiver ? "Approve the waiver" : "Approve: it is no leak"}
                </Button>
              )}
              <Button onClick={() => setDeclining(true)}>{own ? "Take it back…" : "Decline…"}</Button>
            </Flex>
          )}
          {declining && (
            <Form
              layout="vertical"
              requiredMark={false}
              className="above-8"
              onFinish={({ comment }: { comment: string }) => change.mutate({ decline_waiver: true, comment })}
            >
              <Form.Item
                label="Why not"
                name="comment"
                rules={[{ required: true, whitespace: true, message: "Say why not, for who asked" }]}
              >
                <Input.TextArea rows={2} maxLength={10_000} autoFocus />
              </Form.Item>
              <Flex gap={8}>
                <Button htmlType="submit" loading={change.isPending}>
                  {own ? "Take it back" : "Decline"}
                </Button>
                <Button type="text" onClick={() => setDeclining(false)}>
                  Leave it waiting
                </Button>
              </Flex>
            </Form>
          )}
        </>
      }
    />
  );
}

/** Assignee, due date and labels. */
function Hold({ d }: { d: FindingDetail }) {
  const f = d.finding;
  const may = useMay("reviewer", f.service);
  const people = usePeople();
  const labels = useLabels();
  const queries = useQueryClient();
  const failed = useFailed();
  const { message } = App.useApp();
  const change = useMutation({
    mutationFn: (c: FindingsChange) => take(api.POST("/api/v1/findings/changes", { body: { ids: [f.id], ...c } })),
    onSuccess: (out) => {
      void changed(queries, "findings");
      if (out.findings > 0) void message.success(`Changed: ${out.words}`);
    },
    onError: failed,
  });
  if (!may) {
    return (
      <section className="sheet" aria-label="Who has it">
        <Typography.Title level={2}>Who has it</Typography.Title>
        <Held finding={f} />
        {!f.person && !f.team && !f.assigned_team && "Nobody has it yet"}
      </section>
    );
  }
  const team = f.assigned_team ?? f.team;
  return (
    <section className="sheet" aria-label="Who has it">
      <Typography.Title level={2}>Who has it</Typography.Title>
      <Flex gap={8} wrap align="end">
        <Labelled label="Assigned to">
          <Select
            aria-label="Assigned to"
            className="wide-190"
            showSearch={{ optionFilterProp: "label" }}
            value={f.person ? String(f.person.id) : "nobody"}
            disabled={change.isPending}
            onChange={(v) =>
              change.mutate({ person: v === "nobody" ? v : people.data?.find((p) => String(p.id) === v)?.email })
            }
            options={[
              { value: "nobody", label: team ? `team ${team}` : "nobody" },
              ...(people.data ?? (f.person ? [{ ...f.person, email: "" }] : [])).map((p) => ({
                value: String(p.id),
                label: p.name || p.email,
              })),
            ]}
          />
        </Labelled>
        <Labelled label="Due">
          <DatePicker
            aria-label="Due"
            status={overdue(f) ? "error" : undefined}
            value={f.due ? dayjs(f.due) : null}
            disabled={change.isPending}
            onChange={(day) => change.mutate({ due: day ? day.format("YYYY-MM-DD") : "" })}
          />
        </Labelled>
        <Labelled label="Labels">
          <Select
            mode="tags"
            aria-label="Labels"
            className="least-190"
            tokenSeparators={[",", " "]}
            value={f.labels ?? []}
            disabled={change.isPending}
            onChange={(now: string[]) => {
              const had = f.labels ?? [];
              const add = now.filter((l) => !had.includes(l));
              const remove = had.filter((l) => !now.includes(l));
              change.mutate({
                add_labels: add.length ? add : undefined,
                remove_labels: remove.length ? remove : undefined,
              });
            }}
            options={labels.data?.map((l) => ({ value: l.label, label: l.label }))}
          />
        </Labelled>
      </Flex>
    </section>
  );
}

function Labelled({ label, children }: { label: string; children: React.ReactNode }) {
  return (
    <div>
      <Typography.Text type="secondary">{label}</Typography.Text>
      <div>{children}</div>
    </div>
  );
}

function Follow({ d }: { d: FindingDetail }) {
  const queries = useQueryClient();
  const failed = useFailed();
  const path = { finding_id: d.finding.id };
  const follow = useMutation({
    mutationFn: () =>
      d.follows
        ? take(api.DELETE("/api/v1/findings/{finding_id}/follow", { params: { path } }))
        : take(api.PUT("/api/v1/findings/{finding_id}/follow", { params: { path } })),
    onSuccess: () => changed(queries, "findings"),
    onError: failed,
  });
  return (
    <Button
      size="small"
      aria-pressed={!!d.follows}
      loading={follow.isPending}
      onClick={() => follow.mutate()}
      title={d.follows ? "You are told of what becomes of it" : "Be told of what becomes of it"}
    >
      {d.follows ? "✓ Following" : "Follow"}
    </Button>
  );
}

/** Changes of the contracts that would stop the finding, if it is no leak. */
function Teaches({ d }: { d: FindingDetail }) {
  return (
    <Alert
      type="info"

      title="So that it is not told again, teach the contracts one of these"
      description={
        <>
          {d.teaches?.map((t) => (
            <div key={t.what} className="above-6">
              <Typography.Text strong>
                {{ grant: "A grant", exception: "An exception", format: "A format" }[t.what]}
              </Typography.Text>
              <pre className="code below-12 margin-0 space-pre-wrap">{t.text}</pre>
            </div>
          ))}
          <Link to={`/endpoints/${d.finding.endpoint_id}/edit`}>Open the endpoint in the editor</Link>
        </>
      }
    />
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
              {e.revision && e.kind === "move" && (
                <>
                  <Link to={`/contracts/${encodeURIComponent(d.finding.service)}/revisions/${e.revision}`}>
                    revision {e.revision}
                  </Link>{" "}
                  of the contracts permits it;{" "}
                </>
              )}
              {e.kind === "move" && (
                <>
                  {e.author}: {e.from && stateWords[e.from]} → <b>{e.to && stateWords[e.to]}</b>{" "}
                  {e.until && `until ${e.until}`}
                  {e.capture_id && (
                    <>
                      , proven by <Link to={`/captures/${e.capture_id}`}>capture {e.capture_id}</Link>
                    </>
                  )}
                </>
              )}
              {e.kind === "waiver" && (
                <>
                  {e.author}: {e.until ? `a waiver until ${e.until}` : "that it is no leak"} <b>{e.became}</b>
                </>
              )}
              {e.kind === "earlier" && <>shown again by what was recorded before the proof: it stays closed</>}
              {e.kind === "kept" && (
                <>
                  {e.author}: it stays closed, although {e.was}
                </>
              )}
              {e.kind === "withdrawn" && <>{e.author} withdrew the recording that showed it</>}
              {e.kind === "severity" && (
                <>
                  seen graver in a recording of {e.author}: {e.was} → <b>{e.became}</b>
                </>
              )}
              {e.kind === "renamed" && (
                <>
                  called {e.became} from then on, was {e.was}
                </>
              )}
              {e.kind === "excepted" && (
                <>{e.became ? `covered by an exception: ${e.became}` : `covered by no exception any more (${e.was})`}</>
              )}
              {(e.kind === "assign" || e.kind === "due" || e.kind === "label") && (
                <>
                  {e.author}: {{ assign: "assigned", due: "due", label: "labels" }[e.kind]} {e.was || "none"} →{" "}
                  <b>{e.became || "none"}</b>
                </>
              )}{" "}
              <Typography.Text type="secondary" title={time(e.at)}>
                {ago(e.at)}
              </Typography.Text>
              {e.comment && <Said>{e.comment}</Said>}
            </>
          ),
        }))}
      />
    </section>
  );
}

/** What recordings that are still going on tell of a finding that awaits proof. */
function SoFar({ d }: { d: FindingDetail }) {
  return d.proofs?.map((p) => (
    <p key={p.batch_id} aria-live="polite">
      <Link to={`/captures?batch=${p.batch_id}`}>{p.batch}</Link>, a recording in progress,{" "}
      {p.shown
        ? "shows it"
        : `has not shown it in ${count(p.captures, "call")} so far; it counts when it ends, or after ten quiet minutes`}
      .
    </p>
  ));
}

/** A finding that was closed on grounds that no longer count. */
function Doubted({ d }: { d: FindingDetail }) {
  const may = useMay("reviewer", d.finding.service);
  const queries = useQueryClient();
  const failed = useFailed();
  const { message } = App.useApp();
  const again = useMutation({
    mutationFn: () =>
      take(
        api.POST("/api/v1/findings/{finding_id}/moves", {
          params: { path: { finding_id: d.finding.id } },
          body: { to: "awaiting-proof" },
        }),
      ),
    onSuccess: (now) => {
      queries.setQueryData(keys.finding(d.finding.id), now);
      void changed(queries, "findings");
      message.success("It awaits proof again");
    },
    onError: failed,
  });
  return (
    <Alert
      type="warning"
      showIcon
      title="It was closed on grounds that no longer count"
      description={
        <>
          <p>{d.finding.doubt}. Let it await proof again, or decide below that it stays closed, saying why.</p>
          {may && (
            <Button loading={again.isPending} onClick={() => again.mutate()}>
              Await proof again
            </Button>
          )}
        </>
      }
    />
  );
}

/** What proved that a finding is fixed. */
function Proven({ d }: { d: FindingDetail }) {
  const proof = d.proofs?.find((p) => !p.growing);
  const id = proof?.capture_id ?? 0;
  const capture = useQuery({
    queryKey: keys.capture(id),
    queryFn: () => take(api.GET("/api/v1/captures/{capture_id}", { params: { path: { capture_id: id } } })),
    enabled: id > 0,
  });
  if (!proof) return null;
  return (
    <section className="sheet" aria-label="Proof">
      <Flex justify="space-between" gap={8}>
        <Typography.Title level={2}>Proof</Typography.Title>
        {proof.leaked && id > 0 && (
          <Link to={`/captures/compare?before=${proof.leaked}&after=${id}`}>Next to the capture that leaked</Link>
        )}
      </Flex>
      <p>
        {count(proof.captures, "capture")} of <Link to={`/captures?batch=${proof.batch_id}`}>{proof.batch}</Link>{" "}
        {proof.captures === 1 ? "covers" : "cover"} the place, and none shows it. The first is{" "}
        <Link to={`/captures/${id}`}>capture {id}</Link>: {proof.words}.
      </p>
      {capture.error && <Failed error={capture.error} again={() => capture.refetch()} />}
      {capture.data?.body && (
        <WireView body={capture.data.body} cut={capture.data.cut} judgedBy={capture.data.judged_by} />
      )}
    </section>
  );
}

/** The body of the latest capture that shows it, at the place. */
function Evidence({ d }: { d: FindingDetail }) {
  const latest = d.evidence[0];
  const id = latest?.capture_id ?? 0;
  const capture = useQuery({
    queryKey: keys.capture(id),
    queryFn: () => take(api.GET("/api/v1/captures/{capture_id}", { params: { path: { capture_id: id } } })),
    enabled: id > 0,
  });
  return (
    <section className="sheet" aria-label="Evidence">
      <Flex justify="space-between" gap={8}>
        <Typography.Title level={2}>Evidence</Typography.Title>
        {latest && (
          <Repeat
            calls={{ capture: id }}
            service={d.finding.service}
            audience={d.finding.audience}
            unsafe={mayChange(d.finding.endpoint.split(" ")[0] ?? "")}
          >
            Make the call again…
          </Repeat>
        )}
      </Flex>
      {!latest && <Empty title="The captures that showed it are no longer kept" />}
      {latest && (
        <Flex vertical gap={4} className="below-8">
          {d.evidence.slice(0, 5).map((e) => (
            <span key={e.capture_id}>
              <Link
                to={`/captures/${e.capture_id}?at=${encodeURIComponent(e.pointer)}`}
              >{`${e.batch}, entry ${e.entry}`}</Link>{" "}
              <Typography.Text type="secondary">
                <Code>{e.pointer || "(whole body)"}</Code> at byte {e.offset}, {bytes(e.bytes)}
              </Typography.Text>
            </span>
          ))}
          {d.evidence.length > 5 && (
            <Typography.Text type="secondary">and {d.evidence.length - 5} more</Typography.Text>
          )}
        </Flex>
      )}
      {capture.isLoading && <Loading what="the body" />}
      {capture.error && <Failed error={capture.error} again={() => capture.refetch()} />}
      {capture.data?.body && (
        <WireView
          body={capture.data.body}
          cut={capture.data.cut}
          at={latest?.pointer}
          judgedBy={capture.data.judged_by}
        />
      )}
    </section>
  );
}

function Elsewhere({ all, label, title }: { all: Finding[]; label: string; title: (places: string) => string }) {
  if (all.length === 0) return null;
  return (
    <section className="sheet" aria-label={label}>
      <Typography.Title level={2}>
        {title(all.length < 20 ? count(all.length, "other place") : "20 other places and more")}
      </Typography.Title>
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
                <Link to={`/findings/${f.id}`}>{f.endpoint}</Link>{" "}
                <Typography.Text type="secondary">{f.audience}</Typography.Text> <Code>{f.path}</Code>
              </>
            ),
          },
          { width: 130, render: (_, f) => <StateMark state={f.state} until={f.waived_until} /> },
        ]}
      />
    </section>
  );
}
