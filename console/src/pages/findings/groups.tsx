import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { Flex, Table, Typography } from "antd";
import { Link } from "react-router";
import { api, take, type FindingGroup } from "../../api/client";
import { count } from "../../shared/format";
import { Empty, Failed } from "../../shared/states";
import { severities, SeverityMark } from "../../shared/tags";
import { keys } from "../../api/keys";

const words: Record<string, string> = {
  field: "Entity field",
  shape: "Shape of the contracts",
  value: "The same value",
  endpoint: "Endpoint",
  team: "Team",
  kind: "Kind",
};

function only(query: string, severity: string): string {
  const narrowed = new URLSearchParams(query);
  narrowed.set("severity", severity);
  return narrowed.toString();
}

/** Findings grouped by what they have in common: one repair, many findings. */
export function Groups({ by, filter }: { by: string; filter: string }) {
  const list = useQuery({
    queryKey: keys.groups(by, filter),
    queryFn: () =>
      take(
        api.GET("/api/v1/findings/groups", { params: { query: { by: by as "field", filter: filter || undefined } } }),
      ),
    placeholderData: keepPreviousData,
  });
  if (list.error) return <Failed error={list.error} again={() => list.refetch()} />;
  return (
    <Table<FindingGroup>
      rowKey="query"
      size="small"
      aria-label="Groups"
      loading={list.isPending || list.isPlaceholderData}
      dataSource={list.data?.groups}
      pagination={{ pageSize: 50, hideOnSinglePage: true, showSizeChanger: false }}
      locale={{
        emptyText: list.isPending ? (
          " "
        ) : (
          <Empty title="Nothing has that in common">
            {by === "value"
              ? "No value leaks at two places."
              : by === "shape"
                ? "No shape decides at any of them."
                : "Take filters away to see more."}
          </Empty>
        ),
      }}
      footer={
        list.data && list.data.left > 0
          ? () => (
              <Typography.Text type="secondary">
                and {count(list.data.left, "group")} more: narrow the list
              </Typography.Text>
            )
          : undefined
      }
      columns={[
        { title: words[by] ?? "Group", render: (_, g) => <Link to={`/findings?${g.query}`}>{g.name}</Link> },
        { title: "Findings", width: 90, align: "right", dataIndex: "findings" },
        {
          title: "By severity",
          width: 420,
          render: (_, g) => (
            <Flex gap={10} wrap>
              {severities
                .filter((s) => g.by_severity[s] > 0)
                .map((s) => (
                  <Link key={s} to={`/findings?${only(g.query, s)}`} title={count(g.by_severity[s], `${s} finding`)}>
                    {g.by_severity[s]} <SeverityMark severity={s} />
                  </Link>
                ))}
            </Flex>
          ),
        },
      ]}
    />
  );
}
