import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { Button, Flex, Select, Table, Typography } from "antd";
import { useState } from "react";
import { Link, useNavigate } from "react-router";
import { api, take, type Finding, type FindingsAsked } from "../../api/client";
import { sortKey, sortOrder, useAddress } from "../../shared/address";
import { ago, bytes, count, time } from "../../shared/format";
import { useKinds } from "../../shared/kinds";
import { Assigned, Held, Labels } from "../../shared/people";
import { useMay } from "../../shared/session";
import { Heading } from "../../shared/shell";
import { Empty, Failed } from "../../shared/states";
import { Code, severities, SeverityMark, StateMark, states, stateWords } from "../../shared/tags";
import { Words } from "../../shared/words";
import { Groups } from "./groups";
import { Report } from "./report";
import { ChangeSeveral } from "./change-several";
import { Views } from "./views";
import { keys } from "../../api/keys";

/** The filters in the address: all that the service knows, which the compiler checks. */
const filters = [
  "state",
  "severity",
  "kind",
  "audience",
  "assigned",
  "label",
  "due",
  "waiver",
  "proof",
  "service",
  "shape",
  "value",
  "endpoint",
  "batch",
  "entity",
  "field",
  "team",
  "q",
] as const satisfies readonly (keyof FindingsAsked)[];
({}) satisfies Record<Exclude<keyof FindingsAsked, (typeof filters)[number] | "sort" | "page" | "size">, never>;

export default function Findings() {
  const { get, set } = useAddress();
  const navigate = useNavigate();
  const page = Number(get("page")) || 1;
  const size = Number(get("size")) || 50;
  const query = {
    ...Object.fromEntries(filters.map((f) => [f, get(f)]).filter(([, v]) => v)),
    sort: (get("sort") || "-severity") as "-severity",
    page,
    size,
  };
  const list = useQuery({
    queryKey: keys.findings(query),
    queryFn: () => take(api.GET("/api/v1/findings", { params: { query } })),
    placeholderData: keepPreviousData,
  });
  const [choosing, setChoosing] = useState(false); // a kind; their pages come with them
  const kinds = useKinds(choosing);
  const [chosen, setChosen] = useState<string[]>([]);
  const mayChange = useMay("reviewer");
  const words = new URLSearchParams(
    filters.map((f) => [f, get(f)] as [string, string]).filter(([, v]) => v),
  ).toString();
  const narrowed = filters.some((f) => get(f));
  const several = (name: string) => get(name).split(",").filter(Boolean);
  const column = (key: string) => ({
    key,
    sorter: true,
    sortOrder: sortOrder(query.sort, key),
    showSorterTooltip: false,
  });
  return (
    <>
      <Heading
        title="Findings"
        aside={
          list.data && (
            <Typography.Text type="secondary">
              {severities.map((s) => `${list.data.by_severity[s]} ${s}`).join(", ")}
            </Typography.Text>
          )
        }
      >
        {list.data ? count(list.data.total, "finding") : "Findings"}
      </Heading>
      <Flex gap={8} wrap role="search" aria-label="Filters" className="below-12">
        <Words
          label="Search in endpoint, path, entity and field"
          placeholder="Search path, endpoint, field"
          value={get("q")}
          onChange={(q) => set({ q })}
        />
        <Several
          label="State"
          placeholder="State: open"
          width={160}
          value={several("state")}
          onChange={(v) => set({ state: v.includes("any") ? "any" : v.join(",") })}
          options={[{ value: "any", label: "any" }, ...states.map((s) => ({ value: s, label: stateWords[s] }))]}
        />
        <Several
          label="Severity"
          width={140}
          value={several("severity")}
          onChange={(v) => set({ severity: v.join(",") })}
          options={severities.map((s) => ({ value: s, label: s }))}
        />
        <Several
          label="Kind"
          width={180}
          value={several("kind")}
          loading={choosing && kinds.isPending}
          onOpenChange={(open) => setChoosing((was) => was || open)}
          onChange={(v) => set({ kind: v.join(",") })}
          options={kinds.data?.map((k) => ({ value: k.kind, label: k.kind })) ?? []}
        />
        <Assigned value={get("assigned")} onChange={(assigned) => set({ assigned })} />
        <Labels value={get("label")} onChange={(label) => set({ label })} />
        <Select
          allowClear
          aria-label="Due"
          placeholder="Due"
          className="least-110"
          value={get("due") || undefined}
          onChange={(due?: string) => set({ due: due ?? "" })}
          options={[
            { value: "over", label: "overdue" },
            ...(get("due") && get("due") !== "over" ? [{ value: get("due"), label: `before ${get("due")}` }] : []),
          ]}
        />
        <Audience value={get("audience")} onChange={(audience) => set({ audience })} />
        {(["batch", "endpoint", "entity", "field", "team", "service", "shape", "value", "waiver", "proof"] as const)
          .filter((f) => get(f))
          .map((f) => (
            <Button key={f} onClick={() => set({ [f]: "" })} aria-label={`Take away the filter ${f} ${get(f)}`}>
              {f} {get(f)} ✕
            </Button>
          ))}
        <Select
          aria-label="Gather by"
          placeholder="Gather by…"
          allowClear
          className="least-130"
          value={get("by") || undefined}
          onChange={(by?: string) => set({ by: by ?? "" })}
          options={[
            { value: "field", label: "by entity field" },
            { value: "shape", label: "by shape" },
            { value: "value", label: "by value" },
            { value: "endpoint", label: "by endpoint" },
            { value: "team", label: "by team" },
            { value: "kind", label: "by kind" },
          ]}
        />
        <Views query={words} />
        <Report filter={words} service={get("service")} />
        {narrowed && (
          <Button onClick={() => set(Object.fromEntries(filters.map((f) => [f, ""])))}>Take all filters away</Button>
        )}
      </Flex>
      {mayChange && !get("by") && list.data && list.data.total > 0 && (
        <ChangeSeveral
          chosen={chosen}
          all={list.data.total}
          filter={words || "state=open"}
          done={() => setChosen([])}
        />
      )}
      {get("by") ? (
        <Groups by={get("by")} filter={words} />
      ) : list.error ? (
        <Failed error={list.error} again={() => list.refetch()} />
      ) : (
        <Table<Finding>
          rowKey="id"
          size="small"
          rowSelection={
            mayChange
              ? {
                  selectedRowKeys: chosen,
                  preserveSelectedRowKeys: true,
                  onChange: (keys) => setChosen(keys.map(String)),
                  getCheckboxProps: (f) => ({ "aria-label": `Choose ${f.kind} at ${f.path}` }) as object,
                }
              : undefined
          }
          aria-label="Findings"
          loading={list.isPending || list.isPlaceholderData}
          dataSource={list.data?.items}
          locale={{ emptyText: list.isPending ? " " : <NoFindings narrowed={narrowed} /> }}
          onRow={(f) => ({ onClick: () => navigate(`/findings/${f.id}`), style: { cursor: "pointer" } })}
          onChange={(p, _, sorter) => {
            const sort = sortKey(sorter);
            set({
              sort,
              size: p.pageSize === 50 ? "" : String(p.pageSize),
              page: sort === get("sort") && p.current !== 1 ? String(p.current) : "",
            });
          }}
          pagination={{
            current: page,
            pageSize: size,
            total: list.data?.total,
            showSizeChanger: true,
            pageSizeOptions: [20, 50, 100, 200],
            hideOnSinglePage: (list.data?.total ?? 0) <= 20,
          }}
          columns={[
            {
              title: "Severity",
              width: 112,
              ...column("severity"),
              render: (_, f) => <SeverityMark severity={f.severity} />,
            },
            {
              title: "Kind",
              width: 148,
              ...column("kind"),
              render: (_, f) => (
                <Link to={`/findings/${f.id}`} onClick={(e) => e.stopPropagation()}>
                  {f.kind}
                </Link>
              ),
            },
            {
              title: "Endpoint and path",
              ...column("endpoint"),
              render: (_, f) => (
                <>
                  {f.endpoint}{" "}
                  <Typography.Text type="secondary">
                    {f.audience} {f.status}
                  </Typography.Text>
                  <br />
                  <Code>{f.path}</Code>
                </>
              ),
            },
            {
              title: "Field",
              width: 150,
              responsive: ["xxl"],
              render: (_, f) => (f.field ? `${f.entity}.${f.field}` : ""),
            },
            {
              title: "State",
              width: 122,
              ...column("state"),
              render: (_, f) => <StateMark state={f.state} until={f.waived_until} />,
            },
            { title: "Who, due", width: 138, ...column("due"), render: (_, f) => <Held finding={f} /> },
            { title: "Spots", width: 72, align: "right", ...column("spots"), dataIndex: "spots" },
            {
              title: "Bytes",
              width: 84,
              align: "right",
              responsive: ["xxl"],
              ...column("bytes"),
              render: (_, f) => bytes(f.bytes),
            },
            {
              title: "Last seen",
              width: 110,
              ...column("last_seen"),
              render: (_, f) => <span title={time(f.last_seen)}>{ago(f.last_seen)}</span>,
            },
          ]}
        />
      )}
    </>
  );
}

function NoFindings({ narrowed }: { narrowed: boolean }) {
  return narrowed ? (
    <Empty title="No finding fits these filters" />
  ) : (
    <Empty title="No open finding">
      <Link to="/captures">Send a recording</Link> to see what leaks, or look at{" "}
      <Link to="/findings?state=any">all that ever were</Link>.
    </Empty>
  );
}

/** A filter by several of some words. */
function Several({
  label,
  placeholder = label,
  width,
  ...rest
}: {
  label: string;
  placeholder?: string;
  width: number;
  value: string[];
  onChange: (v: string[]) => void;
  options: { value: string; label: string }[];
  loading?: boolean;
  onOpenChange?: (open: boolean) => void;
}) {
  return <Select mode="multiple" aria-label={label} placeholder={placeholder} style={{ minWidth: width }} {...rest} />;
}

function Audience({ value, onChange }: { value: string; onChange: (v: string) => void }) {
  const services = useQuery({
    queryKey: keys.services(),
    queryFn: () => take(api.GET("/api/v1/services")),
    staleTime: 60_000,
  });
  const names = [...new Set(services.data?.flatMap((s) => s.audiences ?? []))];
  return (
    <Select
      allowClear
      aria-label="Audience"
      placeholder="Audience"
      className="least-140"
      value={value || undefined}
      onChange={(v?: string) => onChange(v ?? "")}
      options={names.map((n) => ({ value: n, label: n }))}
    />
  );
}
