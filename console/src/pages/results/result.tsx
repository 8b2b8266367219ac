import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Alert, App, Button, Descriptions, Flex, Popconfirm, Table, Typography } from "antd";
import { Link, useNavigate, useParams } from "react-router";
import { api, take, type CheckedFinding, type PipelineResult } from "../../api/client";
import { ago, bytes, count, time } from "../../shared/format";
import { useMay } from "../../shared/session";
import { Heading } from "../../shared/shell";
import { Empty, Failed, Loading, useFailed } from "../../shared/states";
import { Code, SeverityMark, StateMark } from "../../shared/tags";
import { Counts } from "./results";
import { changed, keys } from "../../api/keys";

/** One result of a pipeline, compared with the main line as it was before. */
export default function ResultPage() {
  const id = Number(useParams().id);
  const one = useQuery({
    queryKey: keys.result(id),
    queryFn: () => take(api.GET("/api/v1/results/{result_id}", { params: { path: { result_id: id } } })),
  });
  const reviewer = useMay("reviewer", one.data?.result.service);
  const lead = useMay("lead", one.data?.result.service);
  const navigate = useNavigate();
  const queries = useQueryClient();
  const failed = useFailed();
  const { message } = App.useApp();
  const drop = useMutation({
    mutationFn: () => take(api.DELETE("/api/v1/results/{result_id}", { params: { path: { result_id: id } } })),
    onSuccess: () => {
      void queries.invalidateQueries({ queryKey: keys.results() });
      navigate("/results");
    },
    onError: failed,
  });
  const main = useMutation({
    mutationFn: (r: PipelineResult) =>
      take(
        api.PUT("/api/v1/services/{service}/main-line", {
          params: { path: { service: r.service } },
          body: { line: r.line },
        }),
      ),
    onSuccess: (_, r) => {
      void changed(queries, "settings");
      void message.success(`Results of ${r.service} are compared with ${r.line}`);
    },
    onError: failed,
  });
  if (one.isPending) return <Loading what="the result" />;
  if (one.error) return <Failed error={one.error} again={() => one.refetch()} />;
  const { result: r, against, fresh, same, gone } = one.data;
  const items: [string, React.ReactNode][] = [
    ["Service", <Link to={`/results?service=${encodeURIComponent(r.service)}`}>{r.service}</Link>],
    ["Found", <Counts of={r} />],
    [
      "Judged",
      `${count(r.summary.judged, "capture")}${r.summary.skipped ? `, ${r.summary.skipped} skipped` : ""}; ${bytes(r.summary.excess_bytes)} of ${bytes(r.summary.bytes)} covered by no grant`,
    ],
    ["Sent", <span title={time(r.at)}>{`by ${r.author}, ${ago(r.at)}`}</span>],
  ];
  if (r.revision) items.push(["Revision", <Code copyable>{r.revision}</Code>]);
  if (r.link)
    items.push([
      "Pipeline",
      <a href={r.link} target="_blank" rel="noreferrer">
        {r.link}
      </a>,
    ]);
  items.push([
    "Compared with",
    against ? (
      <span>
        <Link to={`/results/${against.id}`}>result {against.id}</Link> of {against.line}
        {against.revision && (
          <>
            {" "}
            at <Code>{against.revision.slice(0, 20)}</Code>
          </>
        )}
        , <span title={time(against.at)}>{ago(against.at)}</span>
      </span>
    ) : (
      "nothing: the main line had no result before it"
    ),
  ]);
  return (
    <>
      <Heading
        title={`Result ${r.id} of ${r.line}`}
        aside={
          <Flex gap={8}>
            {lead && !r.main && (
              <Popconfirm
                title={`Make ${r.line} the main line?`}
                description="Results of all lines are compared with it from then on."
                okText="Make it so"
                cancelText="Leave"
                onConfirm={() => main.mutate(r)}
              >
                <Button size="small">Make this the main line…</Button>
              </Popconfirm>
            )}
            {reviewer && (
              <Popconfirm
                title="Forget this result?"
                description="Later results are compared with the one before it."
                okText="Forget it"
                cancelText="Leave"
                onConfirm={() => drop.mutate()}
              >
                <Button size="small">Forget…</Button>
              </Popconfirm>
            )}
          </Flex>
        }
      >
        {r.line}
        {r.main && ", the main line"}
      </Heading>
      <div className="stack">
        <section className="sheet" aria-label="The check">
          <Descriptions
            size="small"
            column={1}
            items={items.map(([label, children]) => ({ key: label, label, children }))}
          />
          {against && against.rules !== r.rules && (
            <Alert
              type="info"
              showIcon
              className="above-8"
              title={`They were judged by other rules: set ${against.rules} there, ${r.rules} here. Some of the difference may come of that.`}
            />
          )}
        </section>
        <Part
          title={`${count(fresh.length, "finding")} new${against ? ` against ${against.line}` : ""}`}
          label="New"
          all={fresh}
          none="Nothing is new."
        />
        {against && (
          <Part
            title={`${count(gone.length, "finding")} on ${against.line} alone: mended, or not called`}
            label="Gone"
            all={gone}
            none="All that was found there is found here."
          />
        )}
        {against && (
          <Part title={`${count(same.length, "finding")} on both`} label="Same" all={same} none="Nothing is on both." />
        )}
      </div>
    </>
  );
}

function Part({ title, label, all, none }: { title: string; label: string; all: CheckedFinding[]; none: string }) {
  return (
    <section className="sheet" aria-label={label}>
      <Typography.Title level={2}>{title}</Typography.Title>
      {all.length === 0 ? (
        <Empty title={none} />
      ) : (
        <Table<CheckedFinding>
          size="small"
          rowKey="fingerprint"
          dataSource={all}
          pagination={{ pageSize: 20, hideOnSinglePage: true, showSizeChanger: false }}
          columns={[
            { title: "Severity", width: 110, render: (_, f) => <SeverityMark severity={f.severity} /> },
            {
              title: "Kind",
              width: 170,
              render: (_, f) =>
                f.state ? (
                  <Link to={`/findings/${f.fingerprint}`}>{f.kind}</Link>
                ) : (
                  <Link to={`/kinds/${f.kind}`}>{f.kind}</Link>
                ),
            },
            {
              title: "Where",
              render: (_, f) => (
                <>
                  {f.endpoint}{" "}
                  <Typography.Text type="secondary">
                    {f.audience} {f.status === undefined ? "" : String(f.status)}
                  </Typography.Text>
                  <br />
                  <Code>{f.path}</Code>
                </>
              ),
            },
            { title: "Field", width: 180, render: (_, f) => f.field && `${f.entity}.${f.field}` },
            {
              title: "Here",
              width: 150,
              render: (_, f) =>
                f.excepted ? (
                  "excepted"
                ) : f.state ? (
                  <StateMark state={f.state} />
                ) : (
                  <Typography.Text type="secondary">not tracked</Typography.Text>
                ),
            },
          ]}
        />
      )}
    </section>
  );
}
