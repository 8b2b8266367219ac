import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { Button, Flex, Table, Tag, Typography } from "antd";
import { Link, useNavigate } from "react-router";
import { api, take, type PipelineResult } from "../../api/client";
import { useAddress } from "../../shared/address";
import { ago, bytes, count, time } from "../../shared/format";
import { Heading } from "../../shared/shell";
import { Empty, Failed } from "../../shared/states";
import { Code, severities, SeverityMark } from "../../shared/tags";
import { keys } from "../../api/keys";

/** What checks of pipelines found, newest first. */
export default function Results() {
  const { get, set } = useAddress();
  const navigate = useNavigate();
  const page = Number(get("page")) || 1;
  const query = { page, size: 50, service: get("service") || undefined, line: get("line") || undefined };
  const list = useQuery({
    queryKey: keys.results(query),
    queryFn: () => take(api.GET("/api/v1/results", { params: { query } })),
    placeholderData: keepPreviousData,
  });
  return (
    <>
      <Heading title="Results of pipelines">
        {list.data ? `${count(list.data.total, "result")} of pipelines` : "Results of pipelines"}
      </Heading>
      <Flex gap={8} wrap className="below-12">
        {(["service", "line"] as const)
          .filter((f) => get(f))
          .map((f) => (
            <Button key={f} onClick={() => set({ [f]: "" })} aria-label={`Take away the filter ${f} ${get(f)}`}>
              {f} {get(f)} ✕
            </Button>
          ))}
      </Flex>
      {list.error ? (
        <Failed error={list.error} again={() => list.refetch()} />
      ) : (
        <Table<PipelineResult>
          rowKey="id"
          size="small"
          aria-label="Results"
          loading={list.isPending || list.isPlaceholderData}
          dataSource={list.data?.items}
          locale={{
            emptyText: list.isPending ? (
              " "
            ) : (
              <Empty title="No pipeline has sent a result">
                At the end of a pipeline:{" "}
                <Code copyable>
                  inkret check --contracts contracts/ --format json run.har | inkret result send - --line main
                </Code>
              </Empty>
            ),
          }}
          onRow={(r) => ({ onClick: () => navigate(`/results/${r.id}`), style: { cursor: "pointer" } })}
          pagination={{
            current: page,
            pageSize: 50,
            total: list.data?.total,
            hideOnSinglePage: true,
            showSizeChanger: false,
            onChange: (p) => set({ page: p === 1 ? "" : String(p) }),
          }}
          columns={[
            {
              title: "Result",
              width: 90,
              render: (_, r) => (
                <Link to={`/results/${r.id}`} onClick={(e) => e.stopPropagation()}>
                  {r.id}
                </Link>
              ),
            },
            {
              title: "Line",
              render: (_, r) => (
                <Flex gap={6} align="center">
                  <Link
                    to={`/results?line=${encodeURIComponent(r.line)}`}
                    onClick={(e) => e.stopPropagation()}
                    title="Only this line"
                  >
                    {r.line}
                  </Link>
                  {r.main && <Tag variant="outlined">main</Tag>}
                  <Typography.Text type="secondary">{r.service}</Typography.Text>
                </Flex>
              ),
            },
            { title: "Revision", width: 180, render: (_, r) => r.revision && <Code>{r.revision.slice(0, 20)}</Code> },
            { title: "Findings", width: 330, render: (_, r) => <Counts of={r} /> },
            {
              title: "Excess",
              width: 150,
              align: "right",
              render: (_, r) => `${bytes(r.summary.excess_bytes)} of ${bytes(r.summary.bytes)}`,
            },
            {
              title: "Sent",
              width: 190,
              render: (_, r) => <span title={time(r.at)}>{`${r.author}, ${ago(r.at)}`}</span>,
            },
          ]}
        />
      )}
    </>
  );
}

/** How many findings of each severity there are, without those that there are none of. */
export function Counts({ of }: { of: PipelineResult }) {
  const some = severities.filter((s) => of.by_severity[s] > 0);
  if (some.length === 0) return <Typography.Text type="secondary">none</Typography.Text>;
  return (
    <Flex gap={10} wrap>
      {some.map((s) => (
        <span key={s}>
          {of.by_severity[s]} <SeverityMark severity={s} />
        </span>
      ))}
    </Flex>
  );
}
