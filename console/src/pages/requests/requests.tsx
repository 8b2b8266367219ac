import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { Button, Flex, Segmented, Table, Typography } from "antd";
import { useState } from "react";
import { Link, useNavigate } from "react-router";
import { api, take, type ExposureRequest } from "../../api/client";
import { useAddress } from "../../shared/address";
import { Ask } from "../../shared/ask";
import { ago, count, time } from "../../shared/format";
import { Heading } from "../../shared/shell";
import { Empty, Failed } from "../../shared/states";
import { Code } from "../../shared/tags";
import { RequestMark } from "./mark";
import { keys } from "../../api/keys";

/** Requests to grant a field. */
export default function Requests() {
  const { get, set } = useAddress();
  const navigate = useNavigate();
  const [asking, setAsking] = useState(false);
  const page = Number(get("page")) || 1;
  const show = get("show") || "open";
  const query = {
    page,
    size: 50,
    state: show === "open" ? "open" : "any",
    mine: show === "mine",
    endpoint: get("endpoint") || undefined,
  };
  const list = useQuery({
    queryKey: keys.requests(query),
    queryFn: () => take(api.GET("/api/v1/requests", { params: { query } })),
    placeholderData: keepPreviousData,
  });
  return (
    <>
      <Heading
        title="Requests"
        aside={
          <Flex gap={8}>
            <Segmented
              aria-label="Which"
              value={show}
              onChange={(v) => set({ show: v === "open" ? "" : String(v) })}
              options={[
                { value: "open", label: "Waiting" },
                { value: "mine", label: "Mine" },
                { value: "all", label: "All" },
              ]}
            />
            <Button type="primary" onClick={() => setAsking(true)}>
              Ask for a field…
            </Button>
          </Flex>
        }
      >
        {list.data ? count(list.data.total, "request") : "Requests"}
      </Heading>
      {asking && <Ask close={() => setAsking(false)} />}
      {list.error ? (
        <Failed error={list.error} again={() => list.refetch()} />
      ) : (
        <Table<ExposureRequest>
          rowKey="id"
          size="small"
          aria-label="Requests"
          loading={list.isPending || list.isPlaceholderData}
          dataSource={list.data?.items}
          locale={{
            emptyText: list.isPending ? (
              " "
            ) : (
              <Empty title={show === "open" ? "Nobody waits for a field" : "No request yet"}>
                Whoever needs a field that an endpoint does not give asks for it here, saying who needs it and why.
              </Empty>
            ),
          }}
          onRow={(q) => ({ onClick: () => navigate(`/requests/${q.id}`), style: { cursor: "pointer" } })}
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
              title: "Field",
              width: 200,
              render: (_, q) => (
                <>
                  <Link to={`/requests/${q.id}`} onClick={(e) => e.stopPropagation()}>{`${q.entity}.${q.field}`}</Link>
                  <br />
                  <Typography.Text type="secondary">{q.class}</Typography.Text>
                </>
              ),
            },
            {
              title: "At",
              render: (_, q) => (
                <>
                  <Code>{q.endpoint}</Code> <Typography.Text type="secondary">for {q.audience}</Typography.Text>
                </>
              ),
            },
            {
              title: "Needed by",
              render: (_, q) => (
                <>
                  {q.needed_by}
                  <Typography.Paragraph type="secondary" ellipsis={{ rows: 1 }} className="margin-0">
                    {q.reason}
                  </Typography.Paragraph>
                </>
              ),
            },
            {
              title: "Asked",
              width: 170,
              render: (_, q) => <span title={time(q.at)}>{`${q.author}, ${ago(q.at)}`}</span>,
            },
            { title: "State", width: 130, render: (_, q) => <RequestMark state={q.state} /> },
          ]}
        />
      )}
    </>
  );
}
