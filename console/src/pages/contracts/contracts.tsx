import { useQuery } from "@tanstack/react-query";
import { Button, Flex, Table, Tabs, Tag, Typography } from "antd";
import { Link } from "react-router";
import { api, take, type Advice, type Revision } from "../../api/client";
import { useAddress } from "../../shared/address";
import { DirectionMark, Sentences } from "../../shared/classes";
import { ago, count, time } from "../../shared/format";
import { ServicePicker, useService } from "../../shared/service";
import { Heading } from "../../shared/shell";
import { Empty, Failed, Loading } from "../../shared/states";
import { Code } from "../../shared/tags";
import { CoveragePanel } from "./coverage";
import { ExportPanel } from "./exports";
import { ShapesPanel } from "./shapes";
import { keys } from "../../api/keys";

/** The contracts of a service as a whole: how they came to be, what they share, what they lack, and other forms of them. */
export default function Contracts() {
  const { get, set } = useAddress();
  const { services, service, name } = useService();
  if (services.isPending) return <Loading what="the services" />;
  if (services.error) return <Failed error={services.error} again={() => services.refetch()} />;
  if (!service)
    return (
      <Empty title="No contracts yet">
        <Link to="/new">Draft some from what goes out today</Link>
      </Empty>
    );
  return (
    <>
      <Heading
        title="Contracts"
        aside={
          <Flex gap={8}>
            <ServicePicker />
            <Link to="/new">
              <Button>New service</Button>
            </Link>
            <Link to={`/contracts/${encodeURIComponent(name)}/edit`}>
              <Button type="primary">Edit the contracts</Button>
            </Link>
          </Flex>
        }
      >
        {name}, revision {service.revision}
      </Heading>
      <Tabs
        destroyOnHidden
        activeKey={get("tab") || "revisions"}
        onChange={(tab) => set({ tab: tab === "revisions" ? "" : tab, gap: "" })}
        items={[
          { key: "revisions", label: "Revisions", children: <Revisions service={name} /> },
          { key: "coverage", label: "Coverage", children: <CoveragePanel service={name} /> },
          { key: "advice", label: "Advice", children: <AdvicePanel service={name} /> },
          { key: "shapes", label: "Shapes", children: <ShapesPanel service={name} /> },
          { key: "forms", label: "Other forms", children: <ExportPanel service={name} /> },
        ]}
      />
    </>
  );
}

const stateWords = { "in-force": "✓ in force", earlier: "earlier", waiting: "◷ waiting", declined: "✕ declined" };

export function RevisionState({ revision }: { revision: Revision }) {
  return (
    <Tag color={revision.state === "waiting" ? "warning" : undefined} variant="outlined">
      {stateWords[revision.state]}
    </Tag>
  );
}

function Revisions({ service }: { service: string }) {
  const { get, set } = useAddress();
  const page = Number(get("page")) || 1;
  const query = { service, page, size: 50 };
  const list = useQuery({
    queryKey: keys.revisions(query),
    queryFn: () => take(api.GET("/api/v1/revisions", { params: { query } })),
  });
  if (list.error) return <Failed error={list.error} again={() => list.refetch()} />;
  return (
    <Table<Revision>
      rowKey="number"
      size="small"
      aria-label="Revisions"
      loading={list.isPending}
      dataSource={list.data?.items}
      pagination={{
        current: page,
        pageSize: 50,
        total: list.data?.total,
        hideOnSinglePage: true,
        showSizeChanger: false,
        onChange: (p) => set({ page: p > 1 ? String(p) : "" }),
      }}
      columns={[
        {
          title: "Revision",
          width: 90,
          render: (_, r) => (
            <Link to={`/contracts/${encodeURIComponent(r.service)}/revisions/${r.number}`}>{r.number}</Link>
          ),
        },
        { title: "State", width: 110, render: (_, r) => <RevisionState revision={r} /> },
        {
          title: "Lets out",
          width: 170,
          render: (_, r) => r.direction && <DirectionMark value={r.direction} reaches={r.reaches} />,
        },
        { title: "What it changes", render: (_, r) => <Sentences all={r.words} most={2} /> },
        { title: "Why", width: 220, dataIndex: "reason" },
        {
          title: "By",
          width: 170,
          render: (_, r) => (
            <>
              <div>{r.author}</div>
              <Typography.Text type="secondary" title={time(r.created)}>
                {ago(r.created)}
              </Typography.Text>
            </>
          ),
        },
      ]}
    />
  );
}

const weightSign: Record<string, string> = { serious: "!", "worth a look": "▲", minor: "▽" };

/** Advice as a table; open leads to a place in the contracts. */
export function AdviceTable({ all, loading, service }: { all?: Advice[]; loading?: boolean; service: string }) {
  return (
    <Table<Advice>
      rowKey={(a) => `${a.code}${a.about}${a.file}${a.line}`}
      size="small"
      aria-label="Advice"
      loading={loading}
      dataSource={all}
      pagination={{ pageSize: 50, hideOnSinglePage: true, showSizeChanger: false }}
      locale={{ emptyText: loading ? " " : <Empty title="Nothing to object to" /> }}
      columns={[
        {
          title: "Weight",
          width: 130,
          sorter: (a, b) => a.weight.localeCompare(b.weight),
          render: (_, a) => (
            <span>
              <span aria-hidden>{weightSign[a.weight]}</span> {a.weight}
            </span>
          ),
        },
        {
          title: "About",
          render: (_, a) => (
            <>
              <Code>{a.about}</Code>
              {a.endpoint && (
                <div>
                  <Typography.Text type="secondary" className="code">
                    {a.endpoint}
                  </Typography.Text>
                </div>
              )}
            </>
          ),
        },
        {
          title: "Advice",
          render: (_, a) => (
            <>
              {a.text}
              <div>
                <Typography.Text type="secondary">→ {a.mend}</Typography.Text>
              </div>
            </>
          ),
        },
        {
          title: "At",
          width: 200,
          render: (_, a) =>
            a.line > 0 && (
              <Link
                to={`/contracts/${encodeURIComponent(service)}/edit?as=text&file=${encodeURIComponent(a.file)}&line=${a.line}`}
              >
                <Code>{`${a.file}:${a.line}`}</Code>
              </Link>
            ),
        },
      ]}
    />
  );
}

function AdvicePanel({ service }: { service: string }) {
  const list = useQuery({
    queryKey: keys.advice(service),
    queryFn: () => take(api.GET("/api/v1/services/{service}/contracts/advice", { params: { path: { service } } })),
  });
  if (list.error) return <Failed error={list.error} again={() => list.refetch()} />;
  return (
    <>
      {list.data && (
        <Typography.Paragraph type="secondary">
          {count(list.data.length, "piece")} of advice. <Code copyable>{`inkret contract advice ${service}`}</Code>
        </Typography.Paragraph>
      )}
      <AdviceTable all={list.data} loading={list.isPending} service={service} />
    </>
  );
}
