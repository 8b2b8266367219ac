import { useQuery } from "@tanstack/react-query";
import { Descriptions, Table, Typography } from "antd";
import { Link, useParams } from "react-router";
import { api, take } from "../../api/client";
import { useAddress } from "../../shared/address";
import { bytes, share, time } from "../../shared/format";
import { Heading } from "../../shared/shell";
import { Empty, Failed, Loading } from "../../shared/states";
import { Code } from "../../shared/tags";
import { WireView } from "../../shared/wire/wire";

export default function CapturePage() {
  const id = Number(useParams().id);
  const { get } = useAddress();
  const capture = useQuery({ queryKey: ["capture", id], queryFn: () => take(api.GET("/api/v1/captures/{capture_id}", { params: { path: { capture_id: id } } })) });
  if (capture.isPending) return <Loading what="the capture" />;
  if (capture.error) return <Failed error={capture.error} again={() => capture.refetch()} />;
  const { capture: c, body, cut, judged_by, request_headers, response_headers, command } = capture.data;
  const items: [string, React.ReactNode][] = [
    ["Endpoint", c.endpoint_id ? <Link to={`/endpoints/${c.endpoint_id}`}>{c.endpoint}</Link> : "not noted: the call was passed over"],
    ["Audience", `${c.audience || "none"}${c.audience_by ? `, ${c.audience_by}` : ""}`],
    ["Status", String(c.status)],
    ["Recorded", time(c.started)],
    ["Recording", <Link to={`/captures?batch=${c.batch_id}`}>{`batch ${c.batch_id}, entry ${c.entry}`}</Link>],
    ["Weight", `${bytes(c.bytes)}, ${bytes(c.excess_bytes)} excess (${share(c.excess_bytes, c.bytes)})`],
  ];
  if (c.skipped) items.push(["Skipped", c.skipped]);
  return (
    <>
      <Heading title={`${c.method} ${c.url}`}>
        <Code>{`${c.method} ${c.url}`}</Code>
      </Heading>
      <div className="split">
        <div className="stack">
          <section className="sheet" aria-label="The call">
            <Descriptions size="small" column={1} items={items.map(([label, children]) => ({ key: label, label, children }))} />
            {command && (
              <Typography.Paragraph style={{ margin: "8px 0 0" }}>
                <Code copyable>{command}</Code>
              </Typography.Paragraph>
            )}
          </section>
          <Headers title="Request headers" all={request_headers} />
          <Headers title="Response headers" all={response_headers} />
        </div>
        <section className="sheet" aria-label="On the wire">
          <Typography.Title level={2}>On the wire</Typography.Title>
          {body ? <WireView body={body} cut={cut} at={get("at") || undefined} judgedBy={judged_by} /> : <Empty title={c.skipped ?? "No body is kept"} />}
        </section>
      </div>
    </>
  );
}

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
