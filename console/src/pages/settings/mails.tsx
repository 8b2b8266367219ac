import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Button, Table, Tag, Typography } from "antd";
import { useState } from "react";
import { api, take, type SentMail } from "../../api/client";
import { ago, time } from "../../shared/format";
import { Empty, Failed, useFailed } from "../../shared/states";
import { Code } from "../../shared/tags";
import { keys } from "../../api/keys";

const sign = { waiting: "◷", taken: "✓", "given up": "✕" } as const;

/** Mails that were sent, and whether they were delivered. */
export function Mails() {
  const [page, setPage] = useState(1);
  const queries = useQueryClient();
  const failed = useFailed();
  const mailing = useQuery({ queryKey: keys.mailing(), queryFn: () => take(api.GET("/api/v1/session/mail")) });
  const list = useQuery({
    queryKey: keys.mails(page),
    queryFn: () => take(api.GET("/api/v1/mails", { params: { query: { page, size: 10 } } })),
    refetchInterval: 10_000,
  });
  const again = useMutation({
    mutationFn: (id: number) => take(api.POST("/api/v1/mails/{mail_id}/again", { params: { path: { mail_id: id } } })),
    onSuccess: () => queries.invalidateQueries({ queryKey: keys.mails() }),
    onError: failed,
  });
  if (list.error) return <Failed error={list.error} again={() => list.refetch()} />;
  return (
    <section className="sheet" aria-label="Mails">
      <Typography.Title level={2}>Mail</Typography.Title>
      {mailing.data && !mailing.data.server && (
        <Typography.Paragraph type="secondary">
          There is no mail server: start the service with{" "}
          <Code copyable>--mail-server smtps://USER@HOST --mail-from ADDRESS</Code>
        </Typography.Paragraph>
      )}
      <Table<SentMail>
        size="small"
        rowKey="id"
        aria-label="Mails"
        loading={list.isPending}
        dataSource={list.data?.items}
        pagination={{
          current: page,
          pageSize: 10,
          total: list.data?.total,
          showSizeChanger: false,
          hideOnSinglePage: true,
          onChange: setPage,
        }}
        locale={{
          emptyText: (
            <Empty title="Nothing was mailed yet">Each person says on their own page when they are mailed.</Empty>
          ),
        }}
        expandable={{ expandedRowRender: (m) => <pre className="code">{m.text}</pre> }}
        columns={[
          { title: "To", render: (_, m) => <span title={m.to}>{m.person}</span> },
          { title: "Subject", dataIndex: "subject" },
          { title: "Made", width: 130, render: (_, m) => <span title={time(m.made)}>{ago(m.made)}</span> },
          {
            title: "State",
            width: 110,
            render: (_, m) => (
              <Tag
                variant="outlined"
                color={m.state === "given up" ? "error" : undefined}
              >{`${sign[m.state]} ${m.state}`}</Tag>
            ),
          },
          {
            title: "What came of it",
            render: (_, m) =>
              m.state === "waiting" && m.tries > 0 ? `${m.said}; next ${m.next ? time(m.next) : ""}` : m.said,
          },
          {
            title: "",
            width: 110,
            render: (_, m) => (
              <Button
                size="small"
                loading={again.isPending && again.variables === m.id}
                onClick={() => again.mutate(m.id)}
              >
                Once more
              </Button>
            ),
          },
        ]}
      />
    </section>
  );
}
