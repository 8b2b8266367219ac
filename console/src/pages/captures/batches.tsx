import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { Flex, Table, Tag, Typography } from "antd";
import { Link } from "react-router";
import { api, take, type Batch } from "../../api/client";
import { useAddress } from "../../shared/address";
import { ago, bytes, time } from "../../shared/format";
import { useMay } from "../../shared/session";
import { Heading } from "../../shared/shell";
import { Empty, Failed } from "../../shared/states";
import { Send } from "./send";
import { keys } from "../../api/keys";

/** Batches, newest first, and uploading more. */
export function Batches() {
  const { get, set } = useAddress();
  const page = Number(get("page")) || 1;
  const mayUpload = useMay("reviewer");
  const list = useQuery({
    queryKey: keys.batches(page),
    queryFn: () => take(api.GET("/api/v1/batches", { params: { query: { page, size: 50 } } })),
    placeholderData: keepPreviousData,
  });
  return (
    <>
      <Heading
        title="Captures"
        aside={
          <Flex gap={16}>
            <Link to="/captures?show=all">All captures</Link>
            <Link to="/live">Watch live</Link>
          </Flex>
        }
      >
        Recordings
      </Heading>
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
            locale={{
              emptyText: list.isPending ? (
                " "
              ) : (
                <Empty title="No recording yet">
                  Drop one above: browsers save a HAR from their network tools. Or record live: inkret record --upstream
                  URL
                </Empty>
              ),
            }}
            onChange={(p) => set({ page: p.current && p.current > 1 ? String(p.current) : "" })}
            pagination={{
              current: page,
              pageSize: 50,
              total: list.data?.total,
              hideOnSinglePage: true,
              showSizeChanger: false,
            }}
            columns={[
              {
                title: "Recording",
                render: (_, b) => (
                  <>
                    <Link to={`/captures?batch=${b.id}`}>{b.name}</Link>{" "}
                    {b.growing && <Tag color="processing">still recording</Tag>}
                    {b.dropped ? <Typography.Text type="warning">▲ {b.dropped} dropped</Typography.Text> : null}
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
              {
                title: "Findings",
                width: 150,
                render: (_, b) => (
                  <Link to={`/findings?state=any&batch=${b.id}`}>{`${b.findings}, ${b.new_findings} new`}</Link>
                ),
              },
              { title: "Bytes", width: 100, align: "right", render: (_, b) => bytes(b.bytes) },
              {
                title: "Sent",
                width: 180,
                render: (_, b) => <span title={time(b.started)}>{`${b.author}, ${ago(b.started)}`}</span>,
              },
            ]}
          />
        )}
      </div>
    </>
  );
}
