import { useQuery } from "@tanstack/react-query";
import { Button, Progress, Table, Typography } from "antd";
import { lazy, Suspense } from "react";
import { Link } from "react-router";
import { api, take, type CoverageGap } from "../../api/client";
import { useAddress } from "../../shared/address";
import { count } from "../../shared/format";
import { Empty, Failed, Loading } from "../../shared/states";
import { keys } from "../../api/keys";

const Trend = lazy(() => import("./trend"));

const gaps: { kind: CoverageGap["kind"]; whole: string; title: string; missing: string }[] = [
  {
    kind: "without-contract",
    whole: "endpoints",
    title: "Endpoints with a contract",
    missing: "seen without a contract",
  },
  { kind: "never-captured", whole: "contracts", title: "Contracts captured", missing: "never captured" },
  { kind: "never-exercised", whole: "responses", title: "Responses seen, by audience", missing: "never seen" },
  { kind: "never-tried", whole: "audiences", title: "Audiences tried", missing: "never tried" },
  {
    kind: "undetermined",
    whole: "own-records",
    title: "Own records told apart",
    missing: "with an owner or caller unknown",
  },
  { kind: "unclassed", whole: "fields", title: "Fields classed", missing: "without a class" },
];

/** How far contracts and captures reach: numbers, what is left to do, and a trend. */
export function CoveragePanel({ service }: { service: string }) {
  const { get, set } = useAddress();
  const coverage = useQuery({
    queryKey: keys.coverage(service),
    queryFn: () => take(api.GET("/api/v1/services/{service}/coverage", { params: { path: { service } } })),
  });
  if (coverage.isPending) return <Loading what="the coverage" />;
  if (coverage.error) return <Failed error={coverage.error} again={() => coverage.refetch()} />;
  const { numbers, gaps: all, trend } = coverage.data;
  const chosen = get("gap");
  const never = new Set(all.filter((g) => g.kind === "never-captured").map((g) => g.endpoint_id));
  const shown = chosen ? all.filter((g) => g.kind === chosen) : all;
  return (
    <div className="stack">
      <div className="count-row six">
        {gaps.map((g) => {
          const whole = numbers[g.whole] ?? 0;
          const missing = numbers[g.kind] ?? 0;
          const share = whole ? Math.round(((whole - missing) / whole) * 100) : 100;
          return (
            <button
              key={g.kind}
              type="button"
              className={`count-button${chosen === g.kind ? " chosen" : ""}`}
              aria-pressed={chosen === g.kind}
              onClick={() => set({ gap: chosen === g.kind ? "" : g.kind })}
            >
              <span>{g.title}</span>
              <strong>
                {whole - missing} of {whole}
              </strong>
              <Progress percent={share} size="small" showInfo={false} strokeColor="#27407f" aria-label={`${share}%`} />
              <span className={missing ? "warn" : undefined}>
                {missing ? `${missing} ${g.missing}` : "all of them"}
              </span>
            </button>
          );
        })}
      </div>
      {trend.length > 1 && (
        <section className="sheet" aria-label="Trend">
          <Typography.Title level={2}>Covered, in percent</Typography.Title>
          <Suspense fallback={<Loading what="the chart" />}>
            <Trend days={trend} parts={gaps} />
          </Suspense>
        </section>
      )}
      <section aria-label="Left to do">
        <Typography.Title level={2}>
          {chosen
            ? `${count(shown.length, "gap")}: ${gaps.find((g) => g.kind === chosen)?.missing}`
            : `${count(shown.length, "gap")} left`}
          {chosen && (
            <Button size="small" type="link" onClick={() => set({ gap: "" })}>
              show all
            </Button>
          )}
        </Typography.Title>
        <Table<CoverageGap>
          rowKey={(g) => JSON.stringify(g)}
          size="small"
          aria-label="Gaps"
          dataSource={shown}
          pagination={{ pageSize: 50, hideOnSinglePage: true, showSizeChanger: false }}
          locale={{ emptyText: <Empty title="Nothing is left to do here" /> }}
          columns={[
            { title: "Gap", width: 190, render: (_, g) => gaps.find((k) => k.kind === g.kind)?.missing },
            {
              title: "Where",
              render: (_, g) =>
                g.endpoint_id ? (
                  <Link to={`/endpoints/${g.endpoint_id}`}>{g.endpoint}</Link>
                ) : (
                  <Link
                    to={`/entities/${encodeURIComponent(service)}/${encodeURIComponent(g.entity ?? "")}?q=${encodeURIComponent(g.field ?? "")}`}
                  >
                    {g.entity}.{g.field}
                  </Link>
                ),
            },
            { title: "Audience", dataIndex: "audience" },
            { title: "Status", dataIndex: "status" },
            {
              title: "Next step",
              render: (_, g) =>
                g.kind === "without-contract" ? (
                  <Link
                    to={`/contracts/${encodeURIComponent(service)}/edit?draft=captures&endpoint=${encodeURIComponent(g.endpoint ?? "")}`}
                  >
                    draft a contract from its {count(g.captures ?? 0, "capture")}
                  </Link>
                ) : g.kind === "undetermined" ? (
                  `${g.records} of ${count(g.of ?? 0, "record")}: ${g.words}`
                ) : g.kind === "unclassed" ? (
                  <Link to={`/entities?service=${encodeURIComponent(service)}&tab=queue`}>class it</Link>
                ) : (
                  <>
                    <Link to="/captures">capture it{g.audience ? ` as ${g.audience}` : ""}</Link>
                    {g.endpoint_id && !never.has(g.endpoint_id) && /^(GET|HEAD) /.test(g.endpoint ?? "") && (
                      <>
                        {" "}
                        or <Link to={`/matrix?endpoint=${g.endpoint_id}`}>call it as every audience</Link>
                      </>
                    )}
                  </>
                ),
            },
          ]}
        />
      </section>
    </div>
  );
}
