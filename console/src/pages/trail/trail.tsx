import { keepPreviousData, useMutation, useQuery } from "@tanstack/react-query";
import { Alert, Button, Flex, Input, Table, Typography } from "antd";
import { Link } from "react-router";
import { api, take, type TrailEntry } from "../../api/client";
import { useAddress } from "../../shared/address";
import { count, time } from "../../shared/format";
import { Heading } from "../../shared/shell";
import { Empty, Failed } from "../../shared/states";
import { Code } from "../../shared/tags";
import { keys } from "../../api/keys";

const parts = ["action", "author", "subject"] as const;

/** The trail: who did what when, and whether it is unchanged. */
export default function Trail() {
  const { get, set } = useAddress();
  const page = Number(get("page")) || 1;
  const size = Number(get("size")) || 50;
  const query = { ...Object.fromEntries(parts.map((p) => [p, get(p)]).filter(([, v]) => v)), page, size };
  const list = useQuery({
    queryKey: keys.trail(query),
    queryFn: () => take(api.GET("/api/v1/trail", { params: { query } })),
    placeholderData: keepPreviousData,
  });
  const verify = useMutation({ mutationFn: () => take(api.GET("/api/v1/trail/verification")) });
  return (
    <>
      <Heading
        title="Trail"
        aside={
          <Button onClick={() => verify.mutate()} loading={verify.isPending}>
            Verify the trail
          </Button>
        }
      >
        {list.data ? count(list.data.total, "entry", "entries") : "Trail"}
      </Heading>
      <div aria-live="polite">
        {verify.error && <Failed error={verify.error} />}
        {verify.data && (
          <Alert
            showIcon
            closable
            className="below-12"
            type={verify.data.whole ? "success" : "error"}
            title={
              verify.data.whole
                ? `The trail is whole: ${count(verify.data.entries, "entry", "entries")} as they were written.`
                : `The trail was tampered with: ${verify.data.problem}`
            }
            description={
              <>
                The last hash, kept elsewhere, shows later that no entry was taken off the end:{" "}
                <Code copyable>{verify.data.last}</Code>
              </>
            }
          />
        )}
      </div>
      <Flex gap={8} wrap role="search" aria-label="Filters" className="below-12">
        {parts.map((p) => (
          <Input
            key={p}
            allowClear
            aria-label={{ action: "What was done", author: "Who did it", subject: "To what" }[p]}
            placeholder={{ action: "what was done: reveal", author: "who did it", subject: "to what: capture 1" }[p]}
            className="wide-210"
            defaultValue={get(p)}
            onBlur={(e) => e.target.value !== get(p) && set({ [p]: e.target.value })}
            onPressEnter={(e) => set({ [p]: e.currentTarget.value })}
            onClear={() => set({ [p]: "" })}
          />
        ))}
      </Flex>
      {list.error ? (
        <Failed error={list.error} again={() => list.refetch()} />
      ) : (
        <Table<TrailEntry>
          rowKey="id"
          size="small"
          aria-label="Trail"
          loading={list.isPending || list.isPlaceholderData}
          dataSource={list.data?.items}
          locale={{
            emptyText: list.isPending ? (
              " "
            ) : (
              <Empty
                title={parts.some((p) => get(p)) ? "No entry fits these filters" : "Nothing is on the trail yet"}
              />
            ),
          }}
          onChange={(p) =>
            set({
              page: p.current && p.current > 1 ? String(p.current) : "",
              size: p.pageSize === 50 ? "" : String(p.pageSize),
            })
          }
          pagination={{
            current: page,
            pageSize: size,
            total: list.data?.total,
            hideOnSinglePage: (list.data?.total ?? 0) <= 20,
            showSizeChanger: true,
            pageSizeOptions: [20, 50, 100, 200],
          }}
          columns={[
            { title: "When", width: 160, render: (_, e) => time(e.at) },
            {
              title: "Who",
              width: 240,
              render: (_, e) => (
                <>
                  <Typography.Link onClick={() => set({ author: e.author })}>{e.author}</Typography.Link>
                  {e.email && (
                    <div>
                      <Typography.Text type="secondary" className="wrap-anywhere">
                        {e.email}
                        {e.key && `, ${e.key}`}
                      </Typography.Text>
                    </div>
                  )}
                </>
              ),
            },
            {
              title: "What",
              width: 150,
              render: (_, e) => <Typography.Link onClick={() => set({ action: e.action })}>{e.action}</Typography.Link>,
            },
            { title: "To", width: 150, render: (_, e) => <Subject subject={e.subject} /> },
            { title: "Detail", render: (_, e) => <span className="wrap-anywhere">{e.detail}</span> },
            {
              title: "Hash",
              width: 110,
              responsive: ["xl"],
              render: (_, e) => (
                <span className="code" title={e.hash}>
                  {e.hash.slice(0, 12)}
                </span>
              ),
            },
          ]}
        />
      )}
    </>
  );
}

/** What an entry is about, as a link where there is a page of it. */
function Subject({ subject }: { subject: string }) {
  const [kind, id] = subject.split(" ");
  if (kind === "capture" && id) return <Link to={`/captures/${id}`}>{subject}</Link>;
  if (kind === "batch" && id) return <Link to={`/captures?batch=${id}`}>{subject}</Link>;
  return <>{subject}</>;
}
