import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { Button, Flex, Input, Select, Table, Typography } from "antd";
import { Link, useNavigate } from "react-router";
import { api, take, type Capture } from "../../api/client";
import { useAddress } from "../../shared/address";
import { bytes, count, time } from "../../shared/format";
import { Heading } from "../../shared/shell";
import { Empty, Failed } from "../../shared/states";
import { Code } from "../../shared/tags";
import { Words } from "../../shared/words";
import { BatchHead } from "./batch";
import { keys } from "../../api/keys";

/** The parts of the address that narrow the list; show=all narrows nothing. */
export const filters = [
  "batch",
  "endpoint",
  "audience",
  "status",
  "finding",
  "show",
  "words",
  "least",
  "most",
  "since",
  "until",
  "repeats",
  "of",
] as const;

const shows = [
  { value: "", label: "with and without findings" },
  { value: "leaking", label: "with findings" },
  { value: "clean", label: "judged, without findings" },
  { value: "skipped", label: "skipped" },
];

const sorts = [
  { value: "", label: "newest first" },
  { value: "recorded", label: "last recorded first" },
  { value: "bytes", label: "largest first" },
  { value: "excess", label: "most excess first" },
  { value: "findings", label: "most findings first" },
];

const statuses = ["2XX", "3XX", "4XX", "5XX", "200", "201", "304", "400", "401", "403", "404", "500"];

/** The moment at which a day of the address begins here. */
const moment = (day: string) => (day ? new Date(`${day}T00:00:00`).toISOString() : undefined);
const number = (text: string) => (text ? Number(text) : undefined);

export function CaptureList() {
  const { get, set } = useAddress();
  const navigate = useNavigate();
  const page = Number(get("page")) || 1;
  const size = Number(get("size")) || 50;
  const show = get("show");
  const batch = number(get("batch"));
  const query = {
    batch,
    endpoint: get("endpoint") || undefined,
    audience: get("audience") || undefined,
    status: get("status") ? get("status").split(",") : undefined,
    finding: get("finding") || undefined,
    repeats: number(get("repeats")),
    service: get("of") || undefined,
    words: get("words") || undefined,
    least_bytes: number(get("least")),
    most_bytes: number(get("most")),
    since: moment(get("since")),
    until: moment(get("until")),
    leaking: show === "leaking" || undefined,
    clean: show === "clean" || undefined,
    skipped: show === "skipped" || undefined,
    sort: (get("sort") || undefined) as "bytes" | undefined,
    page,
    size,
  };
  const list = useQuery({
    queryKey: keys.captures(query),
    queryFn: () => take(api.GET("/api/v1/captures", { params: { query } })),
    placeholderData: keepPreviousData,
  });
  const services = useQuery({
    queryKey: keys.services(),
    queryFn: () => take(api.GET("/api/v1/services")),
    staleTime: 60_000,
  });
  const audiences = [...new Set(services.data?.flatMap((s) => s.audiences ?? []))];
  const narrowed = filters.some((f) => f !== "batch" && get(f) && get(f) !== "all");
  return (
    <>
      {batch ? (
        <BatchHead batch={batch} />
      ) : (
        <Heading title="Captures" aside={<Link to="/captures">Recordings</Link>}>
          {list.data ? `${list.data.more ? "over " : ""}${count(list.data.total, "capture")}` : "Captures"}
        </Heading>
      )}
      <Flex gap={8} wrap role="search" aria-label="Filters" className="below-12">
        <Words
          label="Search in method and address"
          placeholder="Search method, address"
          value={get("words")}
          onChange={(words) => set({ words })}
        />
        <Select
          aria-label="Which captures"
          className="least-190"
          value={show === "all" ? "" : show}
          onChange={(v) => set({ show: v || (batch ? "" : "all") })}
          options={shows}
        />
        <Select
          allowClear
          aria-label="Audience"
          placeholder="Audience"
          className="least-140"
          value={get("audience") || undefined}
          onChange={(v?: string) => set({ audience: v ?? "" })}
          options={audiences.map((n) => ({ value: n, label: n }))}
        />
        <Select
          mode="tags"
          aria-label="Status"
          placeholder="Status"
          className="least-120"
          value={get("status").split(",").filter(Boolean)}
          onChange={(v: string[]) => set({ status: v.filter((s) => /^[1-5]([0-9][0-9]|[xX][xX])$/.test(s)).join(",") })}
          options={statuses.map((s) => ({ value: s, label: s }))}
        />
        <Input
          type="number"
          min={0}
          aria-label="At least so many bytes"
          placeholder="bytes from"
          className="wide-110"
          value={get("least")}
          onChange={(e) => set({ least: e.target.value })}
        />
        <Input
          type="number"
          min={0}
          aria-label="At most so many bytes"
          placeholder="bytes to"
          className="wide-110"
          value={get("most")}
          onChange={(e) => set({ most: e.target.value })}
        />
        <Input
          type="date"
          aria-label="Recorded on this day or later"
          className="wide-140"
          value={get("since")}
          onChange={(e) => set({ since: e.target.value })}
        />
        <Input
          type="date"
          aria-label="Recorded before this day"
          className="wide-140"
          value={get("until")}
          onChange={(e) => set({ until: e.target.value })}
        />
        <Select
          aria-label="Sorting"
          className="least-160"
          value={get("sort")}
          onChange={(sort) => set({ sort })}
          options={sorts}
        />
        {(["endpoint", "finding", "repeats", "of"] as const)
          .filter((f) => get(f))
          .map((f) => (
            <Button
              key={f}
              onClick={() => set({ [f]: "", show: show || "all" })}
              aria-label={`Take away the filter ${f} ${get(f)}`}
            >
              {{ endpoint: "endpoint", finding: "finding", repeats: "made again:", of: "service" }[f]} {get(f)} ✕
            </Button>
          ))}
        {narrowed && (
          <Button
            onClick={() =>
              set({
                ...Object.fromEntries(filters.map((f) => [f, ""])),
                ...(batch ? { batch: String(batch) } : { show: "all" }),
              })
            }
          >
            Take all filters away
          </Button>
        )}
      </Flex>
      {list.error ? (
        <Failed error={list.error} again={() => list.refetch()} />
      ) : (
        <Table<Capture>
          rowKey="id"
          size="small"
          aria-label="Captures"
          loading={list.isPending || list.isPlaceholderData}
          dataSource={list.data?.items}
          locale={{
            emptyText: list.isPending ? (
              " "
            ) : (
              <Empty title={narrowed ? "No capture fits these filters" : "No capture here"} />
            ),
          }}
          onRow={(c) => ({ onClick: () => navigate(`/captures/${c.id}`), style: { cursor: "pointer" } })}
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
            { title: "Capture", width: 80, align: "right", dataIndex: "id" },
            {
              title: "Call",
              render: (_, c) => (
                <>
                  <Link to={`/captures/${c.id}`}>
                    <Code>{`${c.method} ${c.url}`}</Code>
                  </Link>
                  {c.repeats && <Typography.Text type="secondary"> capture {c.repeats} again</Typography.Text>}
                  {(c.skipped || c.incomplete) && (
                    <>
                      <br />
                      <Typography.Text type="secondary">
                        {c.skipped ? `skipped: ${c.skipped}` : `incomplete: ${c.incomplete}`}
                      </Typography.Text>
                    </>
                  )}
                </>
              ),
            },
            { title: "Audience", width: 130, render: (_, c) => <span title={c.audience_by}>{c.audience}</span> },
            { title: "Status", width: 70, align: "right", dataIndex: "status" },
            { title: "Bytes", width: 84, align: "right", render: (_, c) => bytes(c.bytes) },
            { title: "Excess", width: 84, align: "right", render: (_, c) => bytes(c.excess_bytes) },
            { title: "Findings", width: 80, align: "right", dataIndex: "findings" },
            { title: "Recorded", width: 150, responsive: ["lg"], render: (_, c) => time(c.started) },
          ]}
        />
      )}
    </>
  );
}
