import { useQuery } from "@tanstack/react-query";
import { Badge, Flex, Table, Tabs, Typography } from "antd";
import { Link, useNavigate } from "react-router";
import { api, take, type Entity } from "../../api/client";
import { useAddress } from "../../shared/address";
import { count } from "../../shared/format";
import { ServicePicker, useService } from "../../shared/service";
import { Heading } from "../../shared/shell";
import { Empty, Failed, Loading } from "../../shared/states";
import { Queue } from "./queue";
import { ReadPanel } from "./read";
import { keys } from "../../api/keys";

/** The catalogue: what is stored, what waits for a class, and where to read it from. */
export default function Entities() {
  const { get, set } = useAddress();
  const { services, name } = useService();
  const list = useQuery({
    queryKey: keys.entities(name),
    queryFn: () => take(api.GET("/api/v1/services/{service}/entities", { params: { path: { service: name } } })),
    enabled: name !== "",
  });
  const tab = get("tab") || "list";
  if (services.isPending) return <Loading what="the services" />;
  if (services.error) return <Failed error={services.error} again={() => services.refetch()} />;
  if (!name)
    return (
      <Empty title="No service yet">
        Draft a contract, then apply it:{" "}
        <Typography.Text code>inkret draft --captures FILE -o contract.yaml</Typography.Text>
      </Empty>
    );
  const unclassed = list.data?.reduce((n, e) => n + e.unclassed, 0) ?? 0;
  return (
    <>
      <Heading title="Entities" aside={<ServicePicker />}>
        {list.data ? count(list.data.length, "entity", "entities") : "Entities"}
      </Heading>
      <Tabs
        activeKey={tab}
        onChange={(t) => set({ tab: t === "list" ? "" : t, class: "", q: "", entity: "" })}
        items={[
          {
            key: "list",
            label: "Catalogue",
            children: list.error ? (
              <Failed error={list.error} again={() => list.refetch()} />
            ) : (
              <Catalogue service={name} all={list.data} />
            ),
          },
          {
            key: "queue",
            label: (
              <span>
                To class{" "}
                <Badge count={unclassed} size="small" color="#b4551d" title={`${unclassed} unclassed fields`} />
              </span>
            ),
            children: <Queue service={name} />,
          },
          { key: "read", label: "Read from a store", children: <ReadPanel service={name} /> },
        ]}
      />
    </>
  );
}

function Catalogue({ service, all }: { service: string; all?: Entity[] }) {
  const navigate = useNavigate();
  const to = (e: Entity) => `/entities/${encodeURIComponent(service)}/${encodeURIComponent(e.name)}`;
  return (
    <Table<Entity>
      rowKey="name"
      size="small"
      aria-label="Entities"
      loading={!all}
      dataSource={all}
      pagination={{ pageSize: 200, hideOnSinglePage: true, showSizeChanger: false }}
      locale={{
        emptyText: all ? (
          <Empty title="The catalogue is empty">
            Read what is stored, from a database, a description or recorded traffic.
          </Empty>
        ) : (
          " "
        ),
      }}
      onRow={(e) => ({ onClick: () => navigate(to(e)), style: { cursor: "pointer" } })}
      columns={[
        {
          title: "Entity",
          sorter: (a, b) => a.name.localeCompare(b.name),
          render: (_, e) => <Link to={to(e)}>{e.name}</Link>,
        },
        { title: "Stored as", dataIndex: "stored_as", render: (v?: string) => v && <span className="code">{v}</span> },
        { title: "Fields", align: "right", dataIndex: "fields", sorter: (a, b) => a.fields - b.fields },
        {
          title: "Unclassed",
          align: "right",
          sorter: (a, b) => a.unclassed - b.unclassed,
          render: (_, e) => (e.unclassed ? <Typography.Text type="warning">? {e.unclassed}</Typography.Text> : 0),
        },
        {
          title: "Personal",
          align: "right",
          sorter: (a, b) => (a.by_class.personal ?? 0) - (b.by_class.personal ?? 0),
          render: (_, e) => e.by_class.personal ?? 0,
        },
        {
          title: "Secret",
          align: "right",
          sorter: (a, b) => (a.by_class.secret ?? 0) - (b.by_class.secret ?? 0),
          render: (_, e) => e.by_class.secret ?? 0,
        },
        {
          title: "Relations",
          render: (_, e) => (
            <Flex wrap gap={6}>
              {e.relations.map((r) => (
                <span key={r.name} className="code">
                  {r.name}
                  {r.many ? "[]" : ""}
                </span>
              ))}
            </Flex>
          ),
        },
        { title: "Endpoints", align: "right", dataIndex: "endpoints", sorter: (a, b) => a.endpoints - b.endpoints },
        {
          title: "Open findings",
          align: "right",
          sorter: (a, b) => a.open - b.open,
          render: (_, e) =>
            e.open ? (
              <Link to={`/findings?entity=${encodeURIComponent(e.name)}`} onClick={(x) => x.stopPropagation()}>
                {e.open}
              </Link>
            ) : (
              0
            ),
        },
      ]}
    />
  );
}
