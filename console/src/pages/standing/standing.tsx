import { useQuery } from "@tanstack/react-query";
import { Alert, Flex, Segmented, Select, Table, Typography } from "antd";
import { lazy, Suspense } from "react";
import { Link } from "react-router";
import { api, take } from "../../api/client";
import type { components } from "../../api/schema.gen";
import { useAddress } from "../../shared/address";
import { bytes, count } from "../../shared/format";
import { ServicePicker, useService } from "../../shared/service";
import { Heading } from "../../shared/shell";
import { Empty, Failed, Loading } from "../../shared/states";
import { severities, SeverityMark } from "../../shared/tags";
import { keys } from "../../api/keys";

const OpenChart = lazy(() => import("./chart"));
const ExcessChart = lazy(() => import("./excess-chart"));

type Schemas = components["schemas"];

/** How it stands: what is open by day, how long proofs take, and where it is worst. */
export default function StandingPage() {
  const { get, set } = useAddress();
  const { services, name } = useService();
  const days = Number(get("days")) || 90;
  const team = get("team") || undefined;
  const standing = useQuery({
    queryKey: keys.standing(name, team, days),
    queryFn: () =>
      take(api.GET("/api/v1/findings/standing", { params: { query: { service: name || undefined, team, days } } })),
    enabled: !services.isPending,
  });
  if (services.isPending || standing.isPending) return <Loading what="how it stands" />;
  if (standing.error) return <Failed error={standing.error} again={() => standing.refetch()} />;
  const s = standing.data;
  const ever = s.days.some((d) => d.found > 0 || severities.some((v) => d.open[v] > 0));
  return (
    <>
      <Heading
        title="Standing"
        aside={
          <Flex gap={8} wrap>
            <ServicePicker />
            <Select
              allowClear
              aria-label="Team"
              placeholder="All teams"
              className="least-150"
              value={team}
              onChange={(v?: string) => set({ team: v ?? "" })}
              options={(team && !s.teams.some((t) => t.name === team) ? [{ name: team }, ...s.teams] : s.teams)
                .filter((t) => t.name !== "no team")
                .map((t) => ({ value: t.name, label: `team ${t.name}` }))}
            />
            <Segmented
              aria-label="How far back"
              value={days}
              onChange={(v) => set({ days: v === 90 ? "" : String(v) })}
              options={[
                { value: 14, label: "2 weeks" },
                { value: 90, label: "3 months" },
                { value: 365, label: "1 year" },
              ]}
            />
          </Flex>
        }
      >
        How it stands
      </Heading>
      {services.data?.some((v) => (!name || v.name === name) && !v.second_person) && (
        <Alert
          type="warning"
          showIcon
          title={`One person alone decides at ${services.data
            .filter((v) => (!name || v.name === name) && !v.second_person)
            .map((v) => v.name)
            .join(", ")}: no second person is asked.`}
          className="below-12"
        />
      )}
      {!ever ? (
        <Empty title="Nothing was found yet">
          <Link to="/captures">Send a recording</Link> to see what leaks.
        </Empty>
      ) : (
        <div className="stack">
          <section className="sheet" aria-label="Open findings by day">
            <Typography.Title level={2}>Open findings, by severity</Typography.Title>
            <OverTime days={s.days} />
            <details>
              <summary>As a table</summary>
              <DaysTable days={s.days} />
            </details>
          </section>
          <section className="sheet" aria-label="Time to proof">
            <Typography.Title level={2}>From being found to proof</Typography.Title>
            {s.proofs.length === 0 ? (
              <Typography.Text type="secondary">No repair was proven in this time.</Typography.Text>
            ) : (
              <Table<Schemas["ProofTime"]>
                size="small"
                rowKey="severity"
                pagination={false}
                dataSource={s.proofs}
                columns={[
                  { title: "Severity", width: 140, render: (_, p) => <SeverityMark severity={p.severity} /> },
                  {
                    title: "Proven",
                    width: 120,
                    align: "right",
                    render: (_, p) => <Link to={`/findings?state=closed&severity=${p.severity}`}>{p.proofs}</Link>,
                  },
                  { title: "Half of them within", width: 180, align: "right", render: (_, p) => hours(p.median_hours) },
                  { title: "The slowest", align: "right", width: 180, render: (_, p) => hours(p.longest_hours) },
                  { title: "" },
                ]}
              />
            )}
          </section>
          <Excess days={s.weights} savings={s.savings} />
          <div className="split even">
            <Worst title="Entity fields" all={s.fields} />
            <Worst title="Endpoints, the worst first" all={s.endpoints} />
          </div>
          <Worst title="Teams" all={s.teams} />
        </div>
      )}
    </>
  );
}

/** The share of bytes that no grant covers, day by day, and what was saved since endpoints were first captured. */
function Excess({ days, savings }: { days: Schemas["WeighedDay"][]; savings: Schemas["Saving"][] }) {
  const sum = (of: (d: Schemas["WeighedDay"]) => number) => days.reduce((n, d) => n + of(d), 0);
  const [weighed, excess, saved] = [sum((d) => d.bytes), sum((d) => d.excess_bytes), sum((d) => d.saved_bytes)];
  if (weighed === 0) return null;
  return (
    <section className="sheet" aria-label="Excess bytes">
      <Typography.Title level={2}>Excess: bytes that no grant covers</Typography.Title>
      <Typography.Paragraph>
        <b>{bytes(excess)}</b> of {bytes(weighed)} captured in this time
        {saved !== 0 && `; had the endpoints stayed as they were first captured, it were ${bytes(excess + saved)}`}
        {saved > 0 && (
          <>
            : <b>{bytes(saved)} saved</b>
          </>
        )}
        {saved < 0 && (
          <>
            : <b>{bytes(-saved)} more</b>
          </>
        )}
        .
      </Typography.Paragraph>
      {days.length > 1 && (
        <>
          <Suspense fallback={<Loading what="the chart" />}>
            <ExcessChart days={days} />
          </Suspense>
          <details>
            <summary>As a table</summary>
            <Table<Schemas["WeighedDay"]>
              size="small"
              rowKey="day"
              pagination={{ pageSize: 20, hideOnSinglePage: true }}
              dataSource={[...days].reverse()}
              columns={[
                { title: "Day", render: (_, d) => <Link to={`/captures?since=${d.day}&until=${d.day}`}>{d.day}</Link> },
                { title: "Captures", align: "right", dataIndex: "captures" },
                { title: "Bytes", align: "right", render: (_, d) => bytes(d.bytes) },
                { title: "Excess", align: "right", render: (_, d) => bytes(d.excess_bytes) },
                {
                  title: "Saved",
                  align: "right",
                  render: (_, d) => (d.saved_bytes < 0 ? `−${bytes(-d.saved_bytes)}` : bytes(d.saved_bytes)),
                },
              ]}
            />
          </details>
        </>
      )}
      {savings.length > 0 && (
        <Table<Schemas["Saving"]>
          size="small"
          rowKey="endpoint_id"
          aria-label="Savings by endpoint"
          pagination={false}
          dataSource={savings}
          className="above-12"
          columns={[
            {
              title: "Excess of a capture, by endpoint",
              render: (_, e) => <Link to={`/endpoints/${e.endpoint_id}`}>{e.name}</Link>,
            },
            { title: "First", width: 110, align: "right", render: (_, e) => bytes(e.first_bytes) },
            { title: "Now", width: 110, align: "right", render: (_, e) => bytes(e.now_bytes) },
            {
              title: "Saved since",
              width: 140,
              align: "right",
              render: (_, e) => (e.saved_bytes < 0 ? `⚠ −${bytes(-e.saved_bytes)}` : bytes(e.saved_bytes)),
            },
          ]}
        />
      )}
    </section>
  );
}

/** The days as lines, from the first on which anything was open; of one day there is no line to draw. */
function OverTime({ days }: { days: Schemas["StandingDay"][] }) {
  const first = Math.max(0, days.findIndex((d) => severities.some((v) => d.open[v] > 0)) - 1);
  const turns = days.filter((d) => d.found > 0 || d.closed > 0);
  const last = days[days.length - 1];
  if (turns.length < 2 && last) {
    return (
      <>
        <Flex gap={24} wrap className="below-8">
          {severities.map((v) => (
            <Link key={v} to={`/findings?severity=${v}`}>
              <strong>{last.open[v]}</strong> <SeverityMark severity={v} />
            </Link>
          ))}
        </Flex>
        <Typography.Paragraph type="secondary">
          {turns[0]
            ? `All of it came on ${turns[0].day}: the lines begin with the next change.`
            : "Nothing changed in this time."}
        </Typography.Paragraph>
      </>
    );
  }
  return (
    <Suspense fallback={<Loading what="the chart" />}>
      <OpenChart days={days.slice(first)} />
    </Suspense>
  );
}

function hours(n: number): string {
  if (n < 1) return "within an hour";
  return n < 48 ? `${Math.round(n)} hours` : `${Math.round(n / 24)} days`;
}

function DaysTable({ days }: { days: Schemas["StandingDay"][] }) {
  return (
    <Table<Schemas["StandingDay"]>
      size="small"
      rowKey="day"
      pagination={{ pageSize: 20, hideOnSinglePage: true }}
      dataSource={[...days].reverse()}
      columns={[
        { title: "Day", dataIndex: "day" },
        ...severities.map((v) => ({
          title: v,
          align: "right" as const,
          render: (_: unknown, d: Schemas["StandingDay"]) => d.open[v],
        })),
        { title: "came", align: "right", dataIndex: "found" },
        { title: "went", align: "right", dataIndex: "closed" },
      ]}
    />
  );
}

function Worst({ title, all }: { title: string; all: Schemas["Worst"][] }) {
  return (
    <section className="sheet" aria-label={title}>
      <Typography.Title level={2}>{title}</Typography.Title>
      <Table<Schemas["Worst"]>
        size="small"
        rowKey="query"
        pagination={false}
        dataSource={all}
        locale={{ emptyText: <Empty title="Nothing is open" /> }}
        columns={[
          { title: "", render: (_, w) => <Link to={`/findings?${w.query}`}>{w.name}</Link> },
          {
            title: "Open",
            render: (_, w) => (
              <Flex gap={10} wrap>
                {severities
                  .filter((v) => w.open[v] > 0)
                  .map((v) => (
                    <Link key={v} to={`/findings?${w.query}&severity=${v}`} title={count(w.open[v], `${v} finding`)}>
                      {w.open[v]} <SeverityMark severity={v} />
                    </Link>
                  ))}
              </Flex>
            ),
          },
        ]}
      />
    </section>
  );
}
