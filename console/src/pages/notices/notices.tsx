import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Button, Flex, Segmented, Table, Typography } from "antd";
import { Link } from "react-router";
import { api, take, type Notice } from "../../api/client";
import { useAddress } from "../../shared/address";
import { ago, count, time } from "../../shared/format";
import { Heading } from "../../shared/shell";
import { Empty, Failed, useFailed } from "../../shared/states";
import { keys } from "../../api/keys";

const words: Record<Notice["kind"], string> = {
  assigned: "assigned to you",
  mentioned: "you are mentioned",
  moved: "moved",
  changed: "changed",
  revision: "a revision of contracts",
  comment: "somebody commented",
  returned: "returned",
  closed: "closed by proof",
  request: "your request was decided",
  waiver: "a waiver waits or was declined",
  watch: "a watch fails",
  view: "into a view that you follow",
};

/** Notices, newest first. */
export default function Notices() {
  const { get, set } = useAddress();
  const queries = useQueryClient();
  const failed = useFailed();
  const page = Number(get("page")) || 1;
  const unread = get("show") !== "all";
  const list = useQuery({
    queryKey: keys.notices(unread, page),
    queryFn: () => take(api.GET("/api/v1/notices", { params: { query: { unread, page, size: 50 } } })),
  });
  const read = useMutation({
    mutationFn: (up_to: number) => take(api.PUT("/api/v1/notices/read", { body: { up_to } })),
    onSuccess: () => queries.invalidateQueries({ queryKey: keys.notices() }),
    onError: failed,
  });
  const newest = list.data?.items[0];
  return (
    <>
      <Heading
        title="Notices"
        aside={
          <Flex gap={8}>
            <Segmented
              aria-label="Which"
              value={unread ? "unread" : "all"}
              onChange={(v) => set({ show: v === "all" ? "all" : "" })}
              options={[
                { value: "unread", label: "Not read" },
                { value: "all", label: "All" },
              ]}
            />
            <Button
              disabled={!list.data?.unread || !newest}
              loading={read.isPending}
              onClick={() => newest && read.mutate(newest.id)}
            >
              Mark all as read
            </Button>
          </Flex>
        }
      >
        {list.data ? count(list.data.total, "notice") : "Notices"}
      </Heading>
      {list.error ? (
        <Failed error={list.error} again={() => list.refetch()} />
      ) : (
        <Table<Notice>
          rowKey="id"
          size="small"
          aria-label="Notices"
          loading={list.isPending}
          dataSource={list.data?.items}
          locale={{
            emptyText: list.isPending ? (
              " "
            ) : (
              <Empty title={unread ? "Nothing that you have not read" : "Nothing yet"}>
                You are told of findings that are assigned to you, that you follow or commented on, that mention you, of
                your requests and revisions and those that wait for you, and of what comes into views that you follow.
              </Empty>
            ),
          }}
          pagination={{
            current: page,
            pageSize: 50,
            total: list.data?.total,
            hideOnSinglePage: true,
            showSizeChanger: false,
            onChange: (p) => set({ page: p === 1 ? "" : String(p) }),
          }}
          columns={[
            { title: "", width: 28, render: (_, n) => (n.read ? "" : <span title="not read">●</span>) },
            { title: "What", width: 190, render: (_, n) => words[n.kind] },
            {
              title: "About",
              render: (_, n) => (
                <>
                  {n.finding_id && <Link to={`/findings/${n.finding_id}`}>{n.finding || n.finding_id}</Link>}
                  {n.more && ` and ${count(n.more, "more finding")}`}
                  {n.revision && n.service && (
                    <Link to={`/contracts/${encodeURIComponent(n.service)}/revisions/${n.revision}`}>
                      revision {n.revision} of {n.service}
                    </Link>
                  )}
                  {n.kind === "watch" && (
                    <Link to={`/watches?service=${encodeURIComponent(n.service ?? "")}`}>
                      {n.author} of {n.service}
                    </Link>
                  )}
                  {n.request_id && <Link to={`/requests/${n.request_id}`}>request {n.request_id}</Link>}
                  {n.kind === "view" && n.view !== undefined && <Link to={`/findings?${n.view}`}>{n.author}</Link>}
                  {n.text && (
                    <Typography.Paragraph className="margin-0 space-pre-wrap" ellipsis={{ rows: 2 }}>
                      {n.text}
                    </Typography.Paragraph>
                  )}
                </>
              ),
            },
            { title: "By", width: 150, dataIndex: "author" },
            { title: "When", width: 120, render: (_, n) => <span title={time(n.at)}>{ago(n.at)}</span> },
          ]}
        />
      )}
    </>
  );
}
