import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { Flex, Input, Select, Table, Tag, Typography } from "antd";
import { Link, useNavigate } from "react-router";
import { api, take, type Endpoint } from "../../api/client";
import { sortKey, sortOrder, useAddress } from "../../shared/address";
import { ago, bytes, count, share, time } from "../../shared/format";
import { Heading } from "../../shared/shell";
import { Empty, Failed } from "../../shared/states";
import { SeverityMark } from "../../shared/tags";
import { keys } from "../../api/keys";
import AlikeEndpoints from "./alike";

export default function Endpoints() {
  const { get, set } = useAddress();
  const navigate = useNavigate();
  const page = Number(get("page")) || 1;
  const query = {
    q: get("q") || undefined,
    known: get("known") ? get("known") === "true" : undefined,
    sort: (get("sort") || "-open") as "-open",
    page,
    size: 100,
  };
  const list = useQuery({
    queryKey: keys.endpoints(query),
    queryFn: () => take(api.GET("/api/v1/endpoints", { params: { query } })),
    placeholderData: keepPreviousData,
  });
  const column = (key: string) => ({
    key,
    sorter: true,
    sortOrder: sortOrder(query.sort, key),
    showSorterTooltip: false,
  });
  return (
    <>
      <Heading title="Endpoints">{list.data ? count(list.data.total, "endpoint") : "Endpoints"}</Heading>
      <Flex gap={8} wrap role="search" aria-label="Filters" className="below-12">
        <Input.Search
          allowClear
          aria-label="Search endpoints and teams"
          placeholder="Search endpoint, team"
          className="wide-260"
          defaultValue={get("q")}
          onSearch={(q) => set({ q })}
        />
        <Select
          allowClear
          aria-label="With or without contract"
          placeholder="With or without contract"
          className="least-200"
          value={get("known") || undefined}
          onChange={(known?: string) => set({ known: known ?? "" })}
          options={[
            { value: "true", label: "with a contract" },
            { value: "false", label: "without a contract" },
          ]}
        />
      </Flex>
      <AlikeEndpoints />
      {list.error ? (
        <Failed error={list.error} again={() => list.refetch()} />
      ) : (
        <Table<Endpoint>
          rowKey="id"
          size="small"
          aria-label="Endpoints"
          loading={list.isPending || list.isPlaceholderData}
          dataSource={list.data?.items}
          locale={{
            emptyText: list.isPending ? (
              " "
            ) : (
              <Empty title="No endpoint here">Apply contracts, or send a recording.</Empty>
            ),
          }}
          onRow={(e) => ({ onClick: () => navigate(`/endpoints/${e.id}`), style: { cursor: "pointer" } })}
          onChange={(p, _, sorter) =>
            set({ sort: sortKey(sorter), page: p.current && p.current > 1 ? String(p.current) : "" })
          }
          pagination={{
            current: page,
            pageSize: 100,
            total: list.data?.total,
            hideOnSinglePage: true,
            showSizeChanger: false,
          }}
          columns={[
            {
              title: "Endpoint",
              ...column("endpoint"),
              render: (_, e) => <Link to={`/endpoints/${e.id}`}>{e.endpoint}</Link>,
            },
            {
              title: "Contract",
              width: 150,
              render: (_, e) =>
                e.known ? (
                  <Tag variant="outlined">✓ contract</Tag>
                ) : (
                  <Tag color="warning" variant="outlined">
                    ? no contract
                  </Tag>
                ),
            },
            { title: "Team", width: 130, dataIndex: "team" },
            { title: "Gravest", width: 110, render: (_, e) => e.gravest && <SeverityMark severity={e.gravest} /> },
            {
              title: "Open",
              width: 80,
              align: "right",
              ...column("open"),
              render: (_, e) => (e.open ? <Link to={`/findings?endpoint=${e.id}`}>{e.open}</Link> : 0),
            },
            { title: "Captures", width: 100, align: "right", ...column("captures"), dataIndex: "captures" },
            {
              title: "Excess",
              width: 130,
              align: "right",
              ...column("excess"),
              render: (_, e) =>
                !e.known ? (
                  <span title="Without a contract nothing says what is too much">–</span>
                ) : (
                  <>
                    {bytes(e.excess_bytes)}{" "}
                    <Typography.Text type="secondary">{share(e.excess_bytes, e.bytes)}</Typography.Text>
                  </>
                ),
            },
            {
              title: "Last seen",
              width: 110,
              ...column("last_seen"),
              render: (_, e) => (e.last_seen ? <span title={time(e.last_seen)}>{ago(e.last_seen)}</span> : "never"),
            },
          ]}
        />
      )}
    </>
  );
}
