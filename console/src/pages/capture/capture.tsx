import { useQuery } from "@tanstack/react-query";
import { Alert, Descriptions, Flex, Table, Tabs, Typography } from "antd";
import { useCallback } from "react";
import { Link, useParams } from "react-router";
import { api, take, type Capture, type CaptureDetail } from "../../api/client";
import { useAddress } from "../../shared/address";
import { ago, bytes, count, share, time } from "../../shared/format";
import { AsEveryone, mayChange, Repeat } from "../../shared/repeat";
import { Heading } from "../../shared/shell";
import { Empty, Failed, Loading } from "../../shared/states";
import { Code } from "../../shared/tags";
import { WireView } from "../../shared/wire/wire";
import { CoveringGrants } from "./grants";
import { ValueTools } from "./reveal";
import { Weight } from "./weight";
import { keys } from "../../api/keys";

/** One call: who made it, its headers, its body on the wire, what weighs, what was granted, and what came when it was made again. */
export default function CapturePage() {
  const id = Number(useParams().id);
  const capture = useQuery({
    queryKey: keys.capture(id),
    queryFn: () => take(api.GET("/api/v1/captures/{capture_id}", { params: { path: { capture_id: id } } })),
  });
  if (capture.isPending) return <Loading what="the capture" />;
  if (capture.error) return <Failed error={capture.error} again={() => capture.refetch()} />;
  return <Found key={id} detail={capture.data} />;
}

const holdsWords: Record<string, string> = {
  outline: "Its bodies are not kept: what is shown is their outline, every value replaced.",
  nothing: "Nothing of its bodies is kept.",
};

function Found({ detail }: { detail: CaptureDetail }) {
  const { get, set } = useAddress();
  const choose = useCallback((pointer: string) => set({ at: pointer, tab: "" }), [set]);
  const { capture: c, body, cut, judged_by, request_headers, response_headers, command, again } = detail;
  const items: [string, React.ReactNode][] = [
    [
      "Endpoint",
      c.endpoint_id ? (
        <Link to={`/endpoints/${c.endpoint_id}`}>{c.endpoint}</Link>
      ) : (
        "not noted: the call was passed over"
      ),
    ],
    ["Audience", `${c.audience || "none"}${c.audience_by ? `, ${c.audience_by}` : ""}`],
    ["Status", String(c.status)],
    ["Recorded", time(c.started)],
    [
      "Batch",
      <Link
        to={`/captures?batch=${c.batch_id}`}
      >{`batch ${c.batch_id}, entry ${c.entry}${c.file ? ` of ${c.file}` : ""}`}</Link>,
    ],
    ["Weight", `${bytes(c.bytes)}, ${bytes(c.excess_bytes)} excess (${share(c.excess_bytes, c.bytes)})`],
    [
      "Findings",
      c.findings ? (
        <Link to={`/findings?state=any&batch=${c.batch_id}&endpoint=${c.endpoint_id}`}>
          {count(c.findings, "finding")}
        </Link>
      ) : (
        "none"
      ),
    ],
  ];
  if (c.repeats)
    items.push([
      "Made again",
      <>
        <Link to={`/captures/${c.repeats}`}>{`what capture ${c.repeats} recorded`}</Link>
        {" · "}
        <Link to={`/captures/compare?before=${c.repeats}&after=${c.id}`}>compare</Link>
      </>,
    ]);
  if (c.skipped) items.push(["Skipped", c.skipped]);
  if (c.incomplete) items.push(["Incomplete", `${c.incomplete}; it proves no repair`]);
  const wire = body ? (
    <WireView
      body={body}
      cut={cut}
      at={get("at") || undefined}
      judgedBy={judged_by}
      tools={(n, path) => <ValueTools capture={c.id} node={n} path={path} kept={(c.holds ?? "bodies") === "bodies"} />}
    />
  ) : (
    <Empty title={c.skipped ?? "No body is kept"} />
  );
  return (
    <>
      <Heading
        title={`${c.method} ${c.url}`}
        aside={
          <Flex gap={8} wrap>
            <AsEveryone of={{ capture: c.id }} service={detail.service ?? ""} />
            <Repeat
              calls={{ capture: c.id }}
              service={detail.service ?? ""}
              audience={c.audience}
              unsafe={mayChange(c.method)}
            >
              Make the call again…
            </Repeat>
          </Flex>
        }
      >
        <Code>{`${c.method} ${c.url}`}</Code>
      </Heading>
      {c.holds && holdsWords[c.holds] && (
        <Alert type="info" showIcon title={holdsWords[c.holds]} className="below-12" />
      )}
      <div className="split">
        <div className="stack">
          <section className="sheet" aria-label="The call">
            <Descriptions
              size="small"
              column={1}
              items={items.map(([label, children]) => ({ key: label, label, children }))}
            />
            {command && (
              <Typography.Paragraph className="margin-8px-0-0">
                <Code copyable>{command}</Code>
              </Typography.Paragraph>
            )}
          </section>
          {again && again.length > 0 && <Again before={c} again={again} />}
          <Headers title="Request headers" all={request_headers} />
          <Headers title="Response headers" all={response_headers} />
        </div>
        <section className="sheet" aria-label="Body">
          {body ? (
            <Tabs
              size="small"
              activeKey={get("tab") || "wire"}
              onChange={(tab) => set({ tab: tab === "wire" ? "" : tab })}
              items={[
                { key: "wire", label: "On the wire", children: wire },
                {
                  key: "weight",
                  label: "Weight by path",
                  children: <Weight body={body} judgedBy={judged_by} onChoose={choose} />,
                },
                {
                  key: "grants",
                  label: "Grants that cover it",
                  children: <CoveringGrants body={body} onChoose={choose} />,
                },
              ]}
            />
          ) : (
            wire
          )}
        </section>
      </div>
    </>
  );
}

/** The same call made again, with what changed. */
function Again({ before, again }: { before: Capture; again: Capture[] }) {
  return (
    <section className="sheet" aria-label="Made again">
      <Typography.Title level={2}>Made again</Typography.Title>
      <ul className="plain">
        {again.map((c) => (
          <li key={c.id}>
            <Flex gap={8} wrap align="baseline">
              <Link to={`/captures/${c.id}`}>capture {c.id}</Link>
              <span>as {c.audience || "nobody"}</span>
              <span title={time(c.started)}>{ago(c.started)}</span>
              <span>status {c.status}</span>
              <span>
                {bytes(c.bytes)} <Typography.Text type="secondary">({change(c.bytes - before.bytes)})</Typography.Text>
              </span>
              <Typography.Text type={c.findings === 0 && !c.skipped ? "success" : undefined} strong>
                {c.skipped
                  ? `skipped: ${c.skipped}`
                  : c.findings === 0
                    ? `✓ no findings${c.incomplete ? " up to where it ends" : ""}`
                    : count(c.findings, "finding")}
              </Typography.Text>
              {!c.skipped && <Link to={`/captures/compare?before=${before.id}&after=${c.id}`}>compare</Link>}
            </Flex>
          </li>
        ))}
      </ul>
    </section>
  );
}

const change = (n: number) => (n === 0 ? "as many" : `${n > 0 ? "+" : "−"}${bytes(Math.abs(n))}`);

function Headers({ title, all }: { title: string; all: { name: string; value: string }[] }) {
  return (
    <section className="sheet" aria-label={title}>
      <Typography.Title level={2}>{title}</Typography.Title>
      <Table
        size="small"
        pagination={false}
        showHeader={false}
        rowKey={(h, i) => `${i} ${h.name}`}
        dataSource={all}
        locale={{ emptyText: <Empty title="None recorded" /> }}
        columns={[
          { width: "38%", render: (_, h) => <Code>{h.name}</Code> },
          { render: (_, h) => <Code>{h.value}</Code> },
        ]}
      />
    </section>
  );
}
