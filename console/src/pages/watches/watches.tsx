import { useQuery } from "@tanstack/react-query";
import { Button, Flex, Table, Tag, Typography } from "antd";
import { useState } from "react";
import { Link } from "react-router";
import { api, take, type Watch } from "../../api/client";
import { keys } from "../../api/keys";
import { ago, count, time } from "../../shared/format";
import { ServicePicker, useService } from "../../shared/service";
import { useMay } from "../../shared/session";
import { Heading } from "../../shared/shell";
import { Empty, Failed, Loading } from "../../shared/states";
import { Code } from "../../shared/tags";
import { callersOf, everyOf, WatchForm } from "./form";

/** The watches of a service: calls that are made again by the clock. */
export default function Watches() {
  const { services, name } = useService();
  const may = useMay("reviewer", name);
  const [making, setMaking] = useState(false);
  const list = useQuery({
    queryKey: keys.watches(name),
    queryFn: () => take(api.GET("/api/v1/watches", { params: { query: { service: name } } })),
    enabled: name !== "",
    refetchInterval: 30_000,
  });
  if (services.isPending) return <Loading what="the services" />;
  if (services.error) return <Failed error={services.error} again={() => services.refetch()} />;
  if (!name)
    return (
      <>
        <Heading title="Watches">Watches</Heading>
        <Empty title="There is no service yet">Apply contracts first: a service comes with them.</Empty>
      </>
    );
  return (
    <>
      <Heading
        title="Watches"
        aside={
          <Flex gap={8}>
            <ServicePicker />
            {may && (
              <Button type="primary" onClick={() => setMaking(true)}>
                New watch…
              </Button>
            )}
          </Flex>
        }
      >
        {list.data ? count(list.data.length, "watch", "watches") : "Watches"}
      </Heading>
      {list.error ? (
        <Failed error={list.error} again={() => list.refetch()} />
      ) : (
        <Table<Watch>
          rowKey="id"
          size="small"
          aria-label="Watches"
          loading={list.isPending}
          dataSource={list.data}
          pagination={{ pageSize: 50, hideOnSinglePage: true, showSizeChanger: false }}
          locale={{
            emptyText: list.isPending ? (
              " "
            ) : (
              <Empty title="Nothing is watched yet">
                A watch makes safe calls again by the clock. What leaks again is told, and what is fixed is proven,
                while nobody looks.{" "}
                {may ? (
                  <Button type="link" size="small" onClick={() => setMaking(true)}>
                    Make one
                  </Button>
                ) : (
                  "A reviewer makes one."
                )}
              </Empty>
            ),
          }}
          columns={[
            {
              title: "Watch",
              sorter: (a, b) => a.name.localeCompare(b.name),
              render: (_, w) => <Link to={`/watches/${w.id}`}>{w.name}</Link>,
            },
            { title: "Calls", width: 90, align: "right", dataIndex: "calls", sorter: (a, b) => a.calls - b.calls },
            { title: "As", render: (_, w) => callersOf(w) },
            { title: "Every", width: 190, render: (_, w) => everyOf(w) },
            {
              title: "Next run",
              width: 140,
              render: (_, w) => (w.next ? <span title={time(w.next)}>{ago(w.next)}</span> : <Tag>paused</Tag>),
            },
            {
              title: "Last run",
              render: (_, w) =>
                w.failing ? (
                  <Typography.Text type="danger">✕ {w.failing}</Typography.Text>
                ) : w.last ? (
                  <span title={time(w.last.began)}>
                    {ago(w.last.began)}: {count(w.last.findings, "finding")}
                  </span>
                ) : (
                  <Typography.Text type="secondary">none yet</Typography.Text>
                ),
            },
          ]}
        />
      )}
      <p>
        <Code copyable>{`inkret watch make nightly --service ${name} --proposed`}</Code>
      </p>
      {making && <WatchForm service={name} close={() => setMaking(false)} />}
    </>
  );
}
