import { useQuery } from "@tanstack/react-query";
import { Alert, Button, Table, Typography } from "antd";
import { lazy, Suspense } from "react";
import { Link, useNavigate } from "react-router";
import { api, take, type Batch, type Endpoint, type Finding } from "../../api/client";
import { ago, count } from "../../shared/format";
import { Heading } from "../../shared/shell";
import { Empty, Failed, Loading } from "../../shared/states";
import { Code, severities, SeverityMark, StateMark } from "../../shared/tags";
import { overdue } from "../../shared/people";
import { useSession } from "../../shared/session";
import { keys } from "../../api/keys";

const Begin = lazy(() => import("../begin/begin"));
const AlikeEndpoints = lazy(() => import("../endpoints/alike"));

/** What waits for this person. */
export default function Home() {
  const session = useSession();
  const home = useQuery({ queryKey: keys.home(), queryFn: () => take(api.GET("/api/v1/home")) });
  const navigate = useNavigate();
  if (home.isPending) return <Loading what="what needs you" />;
  if (home.error) return <Failed error={home.error} again={() => home.refetch()} />;
  const h = home.data;
  if (h.services.length === 0)
    return (
      <Suspense fallback={<Loading what="the page" />}>
        <Begin />
      </Suspense>
    );
  const few = { pagination: false, size: "small" } as const;
  return (
    <>
      <Heading title="Home" aside={<Typography.Text type="secondary">{session.data?.name}</Typography.Text>}>
        What needs you
      </Heading>
      <div className="count-row" role="list" aria-label="Open findings by severity">
        {severities.map((s) => (
          <Link key={s} role="listitem" to={`/findings?severity=${s}`}>
            <strong>{h.by_severity[s].toLocaleString()}</strong>
            <SeverityMark severity={s} /> open
          </Link>
        ))}
      </div>
      <div className="stack">
        {h.returned > 0 && (
          <Alert
            type="warning"
            showIcon
            title={
              <Link to="/findings?state=returned">
                {count(h.returned, "finding")} came back after being closed or waived
              </Link>
            }
          />
        )}
        <WaitingRevisions />
        {h.revisions_waiting > 0 && (
          <Alert
            type="warning"
            showIcon
            title={
              <Link to="/contracts">
                {count(h.revisions_waiting, "revision")} {h.revisions_waiting === 1 ? "waits" : "wait"} for somebody who
                approves
              </Link>
            }
          />
        )}
        {h.watches_failing?.map((w) => (
          <Alert
            key={w.id}
            type="error"
            showIcon
            title={
              <>
                The watch <Link to={`/watches/${w.id}`}>{w.name}</Link> of {w.service} fails: {w.failing}
              </>
            }
          />
        ))}
        {h.doubted > 0 && (
          <Alert
            type="warning"
            showIcon
            title={
              <Link to="/findings?state=closed&proof=doubted">
                {count(h.doubted, "finding")} {h.doubted === 1 ? "was" : "were"} closed on grounds that no longer count:
                look at {h.doubted === 1 ? "it" : "them"} once
              </Link>
            }
          />
        )}
        {h.left_behind > 0 && (
          <Alert
            type="warning"
            showIcon
            title={
              <Link to="/findings?assigned=left">
                {count(h.left_behind, "open finding")} {h.left_behind === 1 ? "is" : "are"} assigned to people who are
                kept out
              </Link>
            }
          />
        )}
        {h.waivers_asked > 0 && (
          <Alert
            type="warning"
            showIcon
            title={
              <Link to="/findings?state=any&waiver=asked">
                {count(h.waivers_asked, "waiver")} {h.waivers_asked === 1 ? "waits" : "wait"} for a lead who approves
              </Link>
            }
          />
        )}
        {h.waivers_ending > 0 && (
          <Alert
            type="warning"
            showIcon
            title={
              <Link to="/findings?state=waived">
                {count(h.waivers_ending, "waiver")} {h.waivers_ending === 1 ? "ends" : "end"} within seven days
              </Link>
            }
          />
        )}
        {h.awaiting_proof > 0 && (
          <Alert
            type="info"
            showIcon
            title={
              <Link to="/findings?state=awaiting-proof">
                {count(h.awaiting_proof, "finding")} {h.awaiting_proof === 1 ? "awaits" : "await"} proof: capture the
                endpoints again
              </Link>
            }
          />
        )}
        {h.overdue > 0 && (
          <Alert
            type="error"
            showIcon
            title={
              <Link to="/findings?assigned=me&due=over">
                {count(h.overdue, "finding")} of yours {h.overdue === 1 ? "is" : "are"} overdue
              </Link>
            }
          />
        )}
        {h.unread > 0 && (
          <Alert
            type="info"
            showIcon
            title={<Link to="/notices">{count(h.unread, "notice")} that you have not read</Link>}
          />
        )}
        {h.requests > 0 && (
          <Alert
            type="info"
            showIcon
            title={
              <Link to="/requests">
                {count(h.requests, "exposure request")} {h.requests === 1 ? "waits" : "wait"} for a decision
              </Link>
            }
          />
        )}
        {h.mine.length > 0 && (
          <section aria-label="Yours" className="sheet">
            <Typography.Title level={2}>Yours: what is due first</Typography.Title>
            <Table<Finding>
              {...few}
              rowKey="id"
              dataSource={h.mine}
              onRow={(f) => ({ onClick: () => navigate(`/findings/${f.id}`), style: { cursor: "pointer" } })}
              columns={[
                { title: "Severity", width: 110, render: (_, f) => <SeverityMark severity={f.severity} /> },
                { title: "Kind", width: 160, render: (_, f) => <Link to={`/findings/${f.id}`}>{f.kind}</Link> },
                {
                  title: "Where",
                  render: (_, f) => (
                    <>
                      {f.endpoint} <Code>{f.path}</Code>
                    </>
                  ),
                },
                { title: "State", width: 140, render: (_, f) => <StateMark state={f.state} /> },
                {
                  title: "Due",
                  width: 140,
                  render: (_, f) =>
                    f.due && (
                      <Typography.Text type={overdue(f) ? "danger" : undefined}>
                        {overdue(f) ? `⚠ ${f.due}` : f.due}
                      </Typography.Text>
                    ),
                },
              ]}
              footer={() => <Link to="/findings?assigned=me">All {count(h.mine_total, "finding")} of yours</Link>}
            />
          </section>
        )}
        <section aria-label="Findings to judge" className="sheet">
          <Typography.Title level={2}>To judge: new and returned, gravest first</Typography.Title>
          <Table<Finding>
            {...few}
            rowKey="id"
            dataSource={h.urgent}
            locale={{ emptyText: <Empty title="Nothing new to judge" /> }}
            onRow={(f) => ({ onClick: () => navigate(`/findings/${f.id}`), style: { cursor: "pointer" } })}
            columns={[
              { title: "Severity", width: 110, render: (_, f) => <SeverityMark severity={f.severity} /> },
              { title: "Kind", width: 160, render: (_, f) => <Link to={`/findings/${f.id}`}>{f.kind}</Link> },
              {
                title: "Where",
                render: (_, f) => (
                  <>
                    {f.endpoint} <Typography.Text type="secondary">{f.audience}</Typography.Text>
                    <br />
                    <Code>{f.path}</Code>
                  </>
                ),
              },
              { title: "State", width: 120, render: (_, f) => <StateMark state={f.state} /> },
              { title: "Seen", width: 120, render: (_, f) => ago(f.last_seen) },
            ]}
            footer={() => (
              <Link to="/findings?state=new,returned">
                All {count((h.by_state.find((s) => s.state === "new")?.findings ?? 0) + h.returned, "finding")} to judge
              </Link>
            )}
          />
        </section>
        {h.unknown_total > 0 && (
          <section aria-label="Endpoints without a contract" className="sheet">
            <Typography.Title level={2}>Seen without a contract</Typography.Title>
            <Suspense fallback={null}>
              <AlikeEndpoints />
            </Suspense>
            <Table<Endpoint>
              {...few}
              rowKey="id"
              showHeader={false}
              dataSource={h.unknown_endpoints}
              columns={[
                { render: (_, e) => <Link to={`/endpoints/${e.id}`}>{e.endpoint}</Link> },
                { width: 140, render: (_, e) => count(e.captures, "capture") },
                { width: 160, render: (_, e) => (e.gravest ? <SeverityMark severity={e.gravest} /> : "") },
              ]}
            />
          </section>
        )}
        <section aria-label="Latest recordings" className="sheet">
          <Typography.Title level={2}>Latest recordings</Typography.Title>
          <Table<Batch>
            {...few}
            rowKey="id"
            showHeader={false}
            dataSource={h.batches}
            locale={{
              emptyText: (
                <Empty title="No recording yet">
                  <Button type="primary" onClick={() => navigate("/captures")}>
                    Upload one
                  </Button>
                </Empty>
              ),
            }}
            columns={[
              { render: (_, b) => <Link to={`/captures?batch=${b.id}`}>{b.name}</Link> },
              { render: (_, b) => count(b.captures, "capture") },
              {
                render: (_, b) => (
                  <Link
                    to={`/findings?state=any&batch=${b.id}`}
                  >{`${count(b.findings, "finding")}, ${b.new_findings} new`}</Link>
                ),
              },
              {
                width: 200,
                render: (_, b) => (
                  <Typography.Text type="secondary">{`${b.author}, ${ago(b.started)}`}</Typography.Text>
                ),
              },
            ]}
          />
        </section>
      </div>
    </>
  );
}

/** Revisions that wait for a second person. */
function WaitingRevisions() {
  const waiting = useQuery({
    queryKey: keys.revisions({ waiting: true }),
    queryFn: () => take(api.GET("/api/v1/revisions", { params: { query: { waiting: true, size: 20 } } })),
  });
  if (!waiting.data?.total) return null;
  return (
    <Alert
      type="warning"
      showIcon
      title={`${count(waiting.data.total, "revision")} of contracts ${waiting.data.total === 1 ? "waits" : "wait"} for a second person`}
      description={
        <ul className="plain">
          {waiting.data.items.map((r) => (
            <li key={`${r.service}${r.number}`}>
              <Link to={`/contracts/${encodeURIComponent(r.service)}/revisions/${r.number}`}>
                {r.service}, revision {r.number}
              </Link>{" "}
              by {r.author}: {r.words[0]?.text}
            </li>
          ))}
        </ul>
      }
    />
  );
}
