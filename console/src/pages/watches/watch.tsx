import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Alert, App, Button, Descriptions, Flex, Popconfirm, Table, Typography } from "antd";
import { useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { api, take, type WatchCall, type WatchRun } from "../../api/client";
import { changed, keys } from "../../api/keys";
import { ago, count, time } from "../../shared/format";
import { useMay } from "../../shared/session";
import { Heading } from "../../shared/shell";
import { Empty, Failed, Loading, useFailed } from "../../shared/states";
import { Code } from "../../shared/tags";
import { callersOf, everyOf, WatchForm } from "./form";

/** One watch: what it calls, when, and what came of it. */
export default function WatchPage() {
  const { id = "" } = useParams();
  const number = Number(id);
  const path = { watch_id: number };
  const queries = useQueryClient();
  const failed = useFailed();
  const navigate = useNavigate();
  const { message } = App.useApp();
  const [changing, setChanging] = useState(false);
  const watch = useQuery({
    queryKey: keys.watch(number),
    queryFn: () => take(api.GET("/api/v1/watches/{watch_id}", { params: { path } })),
    refetchInterval: 30_000,
  });
  const may = useMay("reviewer", watch.data?.watch.service);
  const run = useMutation({
    mutationFn: () => take(api.POST("/api/v1/watches/{watch_id}/runs", { params: { path } })),
    onSuccess: (d) => {
      queries.setQueryData(keys.watch(number), d);
      void changed(queries, "captures");
      void changed(queries, "watches");
      const last = d.runs[0];
      if (last?.failed) void message.error(`It failed: ${last.failed}`);
      else void message.success(`It ran: ${count(last?.findings ?? 0, "finding")}`);
    },
    onError: failed,
  });
  const pause = useMutation({
    mutationFn: (paused: boolean) =>
      take(api.PUT("/api/v1/watches/{watch_id}", { params: { path }, body: { paused } })),
    onSuccess: (d) => {
      queries.setQueryData(keys.watch(number), d);
      void changed(queries, "watches");
    },
    onError: failed,
  });
  const remove = useMutation({
    mutationFn: () => take(api.DELETE("/api/v1/watches/{watch_id}", { params: { path } })),
    onSuccess: () => {
      void changed(queries, "watches");
      message.success("It is removed; what its runs showed stays");
      navigate("/watches");
    },
    onError: failed,
  });
  if (watch.isPending) return <Loading what="the watch" />;
  if (watch.error) return <Failed error={watch.error} again={() => watch.refetch()} />;
  const w = watch.data.watch;
  return (
    <>
      <Heading
        title={w.name}
        aside={
          may && (
            <Flex gap={8} wrap>
              <Button type="primary" loading={run.isPending} onClick={() => run.mutate()}>
                Run it now
              </Button>
              <Button loading={pause.isPending} onClick={() => pause.mutate(!w.paused)}>
                {w.paused ? "Resume" : "Pause"}
              </Button>
              <Button onClick={() => setChanging(true)}>Change…</Button>
              <Popconfirm
                title="Remove the watch?"
                description="What its runs showed stays."
                okText="Remove"
                onConfirm={() => remove.mutate()}
              >
                <Button danger>Remove…</Button>
              </Popconfirm>
            </Flex>
          )
        }
      >
        <Link to={`/watches?service=${encodeURIComponent(w.service)}`}>Watches</Link> / {w.name}
      </Heading>
      <div className="stack">
        {w.failing && (
          <Alert
            type="error"
            showIcon
            title={`Its last run failed: ${w.failing}`}
            description="What a failed run brings proves nothing. Its owner was told."
          />
        )}
        <section className="sheet" aria-label="The watch">
          <Descriptions
            size="small"
            column={{ xs: 1, md: 2, lg: 4 }}
            items={[
              ["Service", w.service],
              ["Owner", w.owner.name],
              ["As", callersOf(w)],
              ["Every", everyOf(w)],
              ["Calls a minute", w.per_minute],
              ["Server", w.server ? <Code>{w.server}</Code> : "where each was made"],
              ["Next run", w.next ? <span title={time(w.next)}>{ago(w.next)}</span> : "paused"],
              ["Run it", <Code copyable>{`inkret watch run ${w.id}`}</Code>],
            ].map(([label, children]) => ({ key: label as string, label, children }))}
          />
        </section>
        <section className="sheet" aria-label="Runs">
          <Typography.Title level={2}>Runs</Typography.Title>
          <Table<WatchRun>
            size="small"
            rowKey="id"
            dataSource={watch.data.runs}
            pagination={{ pageSize: 10, hideOnSinglePage: true, showSizeChanger: false }}
            locale={{ emptyText: <Empty title="It did not run yet" /> }}
            columns={[
              { title: "When", width: 200, render: (_, r) => <span title={time(r.began)}>{ago(r.began)}</span> },
              { title: "Calls", width: 90, align: "right", dataIndex: "calls" },
              {
                title: "What came of it",
                render: (_, r) =>
                  r.failed ? (
                    <Typography.Text type="danger">✕ {r.failed}</Typography.Text>
                  ) : (
                    <Link to={`/findings?state=any&batch=${r.batch_id}`}>{count(r.findings, "finding")}</Link>
                  ),
              },
              {
                title: "Answers",
                width: 120,
                render: (_, r) => r.batch_id && <Link to={`/captures?batch=${r.batch_id}`}>batch {r.batch_id}</Link>,
              },
            ]}
          />
        </section>
        <section className="sheet" aria-label="Calls">
          <Typography.Title level={2}>{count(watch.data.calls.length, "call")}</Typography.Title>
          <Table<WatchCall>
            size="small"
            rowKey="capture_id"
            dataSource={watch.data.calls}
            pagination={{ pageSize: 10, hideOnSinglePage: true, showSizeChanger: false }}
            columns={[
              { title: "Call", render: (_, c) => <Code>{`${c.method} ${c.url}`}</Code> },
              { title: "Endpoint", render: (_, c) => <Link to={`/endpoints/${c.endpoint_id}`}>{c.endpoint}</Link> },
              { title: "Recorded as", width: 160, dataIndex: "audience" },
            ]}
          />
        </section>
      </div>
      {changing && <WatchForm service={w.service} of={watch.data} close={() => setChanging(false)} />}
    </>
  );
}
