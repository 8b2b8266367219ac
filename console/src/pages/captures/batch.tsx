import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Alert, App, Button, Descriptions, Flex, Input, Modal, Popconfirm, Select, Tag, Typography } from "antd";
import { useState } from "react";
import { Link, useNavigate } from "react-router";
import { api, take, type Batch, type Finding } from "../../api/client";
import { ago, bytes, count, share, time } from "../../shared/format";
import { Repeat } from "../../shared/repeat";
import { Said } from "../../shared/said";
import { useMay, useSession } from "../../shared/session";
import { Heading } from "../../shared/shell";
import { Failed, Loading, useFailed } from "../../shared/states";
import { Code, SeverityMark } from "../../shared/tags";
import { changed, keys } from "../../api/keys";

const origins: Record<string, string> = {
  recording: "a recording",
  recorder: "a recorder",
  recapture: "calls made again",
  watch: "a watch",
};

/** A batch above its captures: its details and actions. */
export function BatchHead({ batch }: { batch: number }) {
  const of = useQuery({
    queryKey: keys.batch(batch),
    queryFn: () => take(api.GET("/api/v1/batches/{batch_id}", { params: { path: { batch_id: batch } } })),
    refetchInterval: (q) => (q.state.data?.growing ? 2000 : false),
  });
  const reviewer = useMay("reviewer", of.data?.service);
  if (of.error) return <Failed error={of.error} again={() => of.refetch()} />;
  if (!of.data) return <Loading what="the batch" />;
  const b = of.data;
  return (
    <>
      <Heading
        title={b.name}
        aside={
          <Flex gap={8} wrap align="center">
            <Link to={`/findings?state=any&batch=${batch}`}>{count(b.findings, "finding")}</Link>
            {b.growing && <Link to={`/live?service=${encodeURIComponent(b.service)}`}>Watch live</Link>}
            <Repeat calls={{ batch }} service={b.service}>
              Make its calls again…
            </Repeat>
            {reviewer && b.growing && <End batch={b} />}
            {reviewer && !b.growing && <Correct batch={b} />}
            {reviewer && <Withdraw batch={b} />}
          </Flex>
        }
      >
        <Link to="/captures">Recordings</Link> / {b.name} {b.growing && <Tag color="processing">still recording</Tag>}
      </Heading>
      <section className="sheet below-12" aria-label="The batch">
        <Descriptions
          size="small"
          column={{ xs: 1, md: 2, lg: 4 }}
          items={[
            ["Came from", origins[b.origin ?? "recording"] ?? b.origin],
            ["Service", b.service],
            ["Sent", <span title={time(b.started)}>{`${b.author}, ${ago(b.started)}`}</span>],
            ["Audience", b.audience ? `${b.audience}, said` : "recognised from each call"],
            [
              "Captures",
              `${b.captures}: ${b.judged} judged, ${b.skipped} skipped${b.incomplete ? `, ${b.incomplete} incomplete` : ""}`,
            ],
            ["Weight", `${bytes(b.bytes)}, ${share(b.excess_bytes, b.bytes)} excess`],
            ["Findings", `${b.findings}, ${b.new_findings} new`],
            ["Dropped", b.dropped ? `${b.dropped} by the recorder` : "none"],
          ].map(([label, children], i) => ({ key: i, label: label as string, children }))}
        />
        {b.skip_reasons && b.skip_reasons.length > 0 && (
          <Typography.Text type="secondary">
            {b.skip_reasons.map((r) => `skipped ${r.captures}: ${r.reason}`).join("; ")}
          </Typography.Text>
        )}
      </section>
      {b.waiting && <Waiting batch={b} />}
      {b.problem && <Alert type="warning" showIcon title={b.problem} className="below-8" />}
    </>
  );
}

/** What waits for a second person: it takes severe findings off the list. */
function Waiting({ batch }: { batch: Batch }) {
  const w = batch.waiting!;
  const session = useSession();
  const lead = useMay("lead", batch.service);
  const queries = useQueryClient();
  const navigate = useNavigate();
  const failed = useFailed();
  const [comment, setComment] = useState("");
  const own = session.data?.id === w.by.id;
  const path = { batch_id: batch.id };
  const approve = useMutation({
    mutationFn: async () => {
      if (w.what === "withdraw")
        await take(api.POST("/api/v1/batches/{batch_id}/withdrawal", { params: { path }, body: { reason: w.reason } }));
      else
        await take(
          api.PUT("/api/v1/batches/{batch_id}/audience", {
            params: { path },
            body: { audience: w.audience, audiences: w.audiences },
          }),
        );
    },
    onSuccess: () => {
      void changed(queries, "captures", { refetchType: w.what === "withdraw" ? "none" : "active" });
      if (w.what === "withdraw") navigate("/captures");
    },
    onError: failed,
  });
  const decline = useMutation({
    mutationFn: () =>
      take(
        api.DELETE("/api/v1/batches/{batch_id}/waiting", {
          params: { path, query: { comment: comment || undefined } },
        }),
      ),
    onSuccess: () => void changed(queries, "captures"),
    onError: failed,
  });
  return (
    <Alert
      type="warning"
      showIcon
      className="below-8"
      title={`${own ? "You ask" : `${w.by.name} asks`} to ${w.what === "withdraw" ? "withdraw this recording" : "say anew who made its requests"}`}
      description={
        <>
          <p>{`It takes ${count(w.findings, "open finding")} of high or critical severity off the list. ${own ? "It waits for a lead who is somebody else." : lead ? "You decide." : "It waits for a lead."}`}</p>
          <Said>{w.reason}</Said>
          {(lead || own) && (
            <Flex gap={8} wrap className="above-8">
              {lead && !own && (
                <Button
                  type="primary"
                  danger={w.what === "withdraw"}
                  loading={approve.isPending}
                  onClick={() => approve.mutate()}
                >
                  Approve
                </Button>
              )}
              {!own && (
                <Input
                  aria-label="Why not"
                  placeholder="why not, needed to decline"
                  value={comment}
                  onChange={(e) => setComment(e.target.value)}
                  className="wide-320"
                />
              )}
              <Button disabled={!own && !comment.trim()} loading={decline.isPending} onClick={() => decline.mutate()}>
                {own ? "Take it back" : "Decline"}
              </Button>
            </Flex>
          )}
        </>
      }
    />
  );
}

/** Completes a batch whose recorder is gone. */
function End({ batch }: { batch: Batch }) {
  const queries = useQueryClient();
  const failed = useFailed();
  const end = useMutation({
    mutationFn: () => take(api.POST("/api/v1/batches/{batch_id}/end", { params: { path: { batch_id: batch.id } } })),
    onSuccess: () => void changed(queries, "captures"),
    onError: failed,
  });
  return (
    <Popconfirm title="A recorder that still runs begins another batch." okText="End it" onConfirm={() => end.mutate()}>
      <Button loading={end.isPending}>End the recording</Button>
    </Popconfirm>
  );
}

function Correct({ batch }: { batch: Batch }) {
  const { message } = App.useApp();
  const queries = useQueryClient();
  const failed = useFailed();
  const [open, setOpen] = useState(false);
  const [audience, setAudience] = useState(batch.audience ?? "");
  const [mapping, setMapping] = useState("");
  const services = useQuery({
    queryKey: keys.services(),
    queryFn: () => take(api.GET("/api/v1/services")),
    staleTime: 60_000,
  });
  const correct = useMutation({
    mutationFn: () =>
      take(
        api.PUT("/api/v1/batches/{batch_id}/audience", {
          params: { path: { batch_id: batch.id } },
          body: audience === mapped ? { audiences: mapping } : { audience: audience || undefined },
        }),
      ),
    onSuccess: (b) => {
      setOpen(false);
      void changed(queries, "captures");
      void message.success(`Judged anew: ${count(b.findings, "finding")}`);
    },
    onError: failed,
  });
  const mapped = " mapping";
  return (
    <>
      <Button onClick={() => setOpen(true)}>Correct the audience…</Button>
      {open && (
        <Modal
          title="Who made these calls"
          open
          onCancel={() => setOpen(false)}
          onOk={() => correct.mutate()}
          okText="Judge the batch anew"
          okButtonProps={{ loading: correct.isPending, disabled: audience === mapped && !mapping.trim() }}
        >
          <div className="stack">
            <Select
              aria-label="Audience of the batch"
              showSearch
              className="wide-full"
              value={audience}
              onChange={setAudience}
              options={[
                { value: "", label: "recognised from each call" },
                ...(services.data?.find((s) => s.name === batch.service)?.audiences ?? []).map((a) => ({
                  value: a,
                  label: a,
                })),
                { value: mapped, label: "said by a mapping" },
              ]}
            />
            {audience === mapped && (
              <Input.TextArea
                rows={6}
                aria-label="The mapping"
                className="code"
                placeholder={"audiences:\n  - {audience: skipper, recognise: {header: {name: X-App, value: mobile}}}"}
                value={mapping}
                onChange={(e) => setMapping(e.target.value)}
              />
            )}
            <Code
              copyable
            >{`inkret capture audience ${batch.id}${audience === mapped ? " --audiences FILE" : audience ? ` ${audience}` : ""}`}</Code>
          </div>
        </Modal>
      )}
    </>
  );
}

function Withdraw({ batch }: { batch: Batch }) {
  const [open, setOpen] = useState(false);
  return (
    <>
      <Button danger onClick={() => setOpen(true)}>
        Withdraw…
      </Button>
      {open && <WithdrawDialog batch={batch} close={() => setOpen(false)} />}
    </>
  );
}

function WithdrawDialog({ batch, close }: { batch: Batch; close: () => void }) {
  const { message } = App.useApp();
  const navigate = useNavigate();
  const queries = useQueryClient();
  const failed = useFailed();
  const [reason, setReason] = useState("");
  const path = { batch_id: batch.id };
  const effect = useQuery({
    queryKey: keys.withdrawal(batch.id),
    queryFn: () => take(api.GET("/api/v1/batches/{batch_id}/withdrawal", { params: { path } })),
    staleTime: 0,
  });
  const withdraw = useMutation({
    mutationFn: () => take(api.POST("/api/v1/batches/{batch_id}/withdrawal", { params: { path }, body: { reason } })),
    onSuccess: (waits) => {
      if (waits) {
        close();
        void changed(queries, "captures");
        void message.info("It waits for a second person");
        return;
      }
      void changed(queries, "captures", { refetchType: "none" }); // this page would ask for what is gone
      navigate("/captures");
      void message.success(`Batch ${batch.id} is withdrawn`);
    },
    onError: failed,
  });
  return (
    <Modal
      title={`Withdraw ${batch.name}`}
      open
      width={640}
      onCancel={close}
      onOk={() => withdraw.mutate()}
      okText="Withdraw the batch"
      okButtonProps={{ danger: true, disabled: !reason.trim() || !effect.data, loading: withdraw.isPending }}
    >
      {effect.isPending && <Loading what="what it comes to" />}
      {effect.error && <Failed error={effect.error} again={() => effect.refetch()} />}
      {effect.data && (
        <div className="stack">
          <Typography.Text>{`Its ${count(effect.data.captures, "capture")} go, and with them what only they show.`}</Typography.Text>
          <Those title={count(effect.data.gone.length, "finding goes", "findings go")} all={effect.data.gone} />
          <Those
            title={`${count(effect.data.stay.length, "finding stays", "findings stay")}, since somebody moved or discussed them`}
            all={effect.data.stay}
          />
          {effect.data.fewer > 0 && (
            <Typography.Text>{`${count(effect.data.fewer, "finding")} that other batches show too count fewer spots.`}</Typography.Text>
          )}
          <label>
            Why; it goes on the trail
            <Input value={reason} onChange={(e) => setReason(e.target.value)} />
          </label>
        </div>
      )}
    </Modal>
  );
}

function Those({ title, all }: { title: string; all: Finding[] }) {
  const most = 8;
  if (all.length === 0) return null;
  return (
    <section aria-label={title}>
      <strong>{title}</strong>
      <ul className="plain">
        {all.slice(0, most).map((f) => (
          <li key={f.id}>
            <SeverityMark severity={f.severity} /> <Link to={`/findings/${f.id}`}>{f.kind}</Link> {f.endpoint}{" "}
            <Code>{f.path}</Code>
          </li>
        ))}
        {all.length > most && <li className="faint">and {all.length - most} more</li>}
      </ul>
    </section>
  );
}
