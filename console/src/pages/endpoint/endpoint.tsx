import { useQuery } from "@tanstack/react-query";
import { Alert, Button, Flex, Segmented, Select, Tag, Typography } from "antd";
import { useState } from "react";
import { Link, useParams } from "react-router";
import { api, take, type GrantNode, type ResponseContract } from "../../api/client";
import { useAddress } from "../../shared/address";
import { Ask } from "../../shared/ask";
import { ago, bytes, count, share } from "../../shared/format";
import { AsEveryone, Repeat } from "../../shared/repeat";
import { Heading } from "../../shared/shell";
import { Empty, Failed, Loading } from "../../shared/states";
import { Code, SeverityMark } from "../../shared/tags";
import { WireView } from "../../shared/wire/wire";
import { keys } from "../../api/keys";

/** The contract on one side, a body as it was on the wire on the other. */
export default function EndpointPage() {
  const { id = "" } = useParams();
  const endpoint = useQuery({
    queryKey: keys.endpoint(id),
    queryFn: () => take(api.GET("/api/v1/endpoints/{endpoint_id}", { params: { path: { endpoint_id: id } } })),
  });
  const [asking, setAsking] = useState(false);
  const [as, setAs] = useState<"grants" | "text">("grants");
  if (endpoint.isPending) return <Loading what="the endpoint" />;
  if (endpoint.error) return <Failed error={endpoint.error} again={() => endpoint.refetch()} />;
  const { endpoint: e, responses, text, file, line } = endpoint.data;
  return (
    <>
      <Heading
        title={e.endpoint}
        aside={
          <Flex gap={12} align="center" wrap>
            {e.gravest && <SeverityMark severity={e.gravest} />}
            <Link to={`/endpoints/${e.id}/edit`}>
              <Button type="primary">{e.known ? "Edit the contract" : "Draft a contract"}</Button>
            </Link>
            {e.known && <Button onClick={() => setAsking(true)}>Ask for a field…</Button>}
            {asking && <Ask known={{ service: e.service, endpoint: e.endpoint }} close={() => setAsking(false)} />}
            <Repeat calls={{ endpoint: e.id }} service={e.service}>
              Make its calls again…
            </Repeat>
            {e.captures > 0 && <AsEveryone of={{ endpoint: e.id }} service={e.service} />}
            <Link to={`/findings?endpoint=${e.id}`}>{count(e.open, "open finding")}</Link>
            <Link to={`/captures?endpoint=${e.id}`}>{count(e.captures, "capture")}</Link>
            <span>
              {bytes(e.excess_bytes)} excess ({share(e.excess_bytes, e.bytes)})
            </span>
          </Flex>
        }
      >
        <Code copyable>{e.endpoint}</Code>
      </Heading>
      <div className="split">
        <section className="sheet" aria-label="Contract">
          <Flex justify="space-between">
            <Typography.Title level={2}>Contract</Typography.Title>
            {e.known && (
              <Segmented
                size="small"
                value={as}
                onChange={setAs}
                options={[
                  { value: "grants", label: "Grants" },
                  { value: "text", label: "Text" },
                ]}
              />
            )}
          </Flex>
          {e.team && <Typography.Paragraph type="secondary">team {e.team}</Typography.Paragraph>}
          {!e.known && (
            <Empty title="No contract for this endpoint">
              Until it has one, its bodies are only swept.{" "}
              <Link to={`/endpoints/${e.id}/edit?draft=captures`}>Draft one from its captures</Link>
            </Empty>
          )}
          {e.known && as === "text" && (
            <>
              <Typography.Text type="secondary">
                <Code copyable>{`${file}:${line}`}</Code>
              </Typography.Text>
              <pre className="code">{text}</pre>
            </>
          )}
          {e.known && as === "grants" && responses.length === 0 && (
            <Alert type="warning" showIcon title="The contract declares no response." />
          )}
          {e.known && as === "grants" && responses.map((r) => <Response key={`${r.line}`} r={r} />)}
        </section>
        <Wire endpoint={id} />
      </div>
    </>
  );
}

function Response({ r }: { r: ResponseContract }) {
  return (
    <div className="below-12">
      <Flex gap={4} wrap align="center" className="below-4">
        {r.statuses.map((s) => (
          <Tag key={s}>{s}</Tag>
        ))}
        {(r.audiences ?? ["everybody"]).map((a) => (
          <Tag key={a} variant="outlined">
            {a}
          </Tag>
        ))}
        <Typography.Text type="secondary">
          {r.operations ? "by type" : r.entity}
          {r.many ? " (list)" : ""} {r.at && `at ${r.at}`} · line {r.line}
        </Typography.Text>
      </Flex>
      {r.operations && <Operations all={r.operations} />}
      {r.grants.length ? (
        <Grants all={r.grants.filter((g) => !g.of_type || !r.operations?.some((o) => o.startsWith(`${g.name}.`)))} />
      ) : (
        <Typography.Text type="secondary">grants nothing</Typography.Text>
      )}
    </div>
  );
}

/** The root fields that may be asked for. */
function Operations({ all }: { all: string[] }) {
  return (
    <Typography.Paragraph className="below-4">
      <Typography.Text type="secondary">may be asked for:</Typography.Text>{" "}
      {all.map((o, i) => (
        <span key={o}>
          {i > 0 && ", "}
          <Code>{o}</Code>
        </span>
      ))}
    </Typography.Paragraph>
  );
}

function Grants({ all }: { all: GrantNode[] }) {
  return (
    <ul className="grants">
      {all.map((g) => (
        <li key={g.name}>
          <span className="code">{g.name}</span>{" "}
          <Typography.Text type="secondary">
            {[
              g.of_type ? g.entity && `objects of this type, as ${g.entity}` : g.carries,
              g.by_type && "by its type",
              g.type,
              !g.of_type && !g.by_type && g.class,
              !g.of_type && !g.by_type && g.optional && "optional",
              g.many && "list",
              g.open && "open",
              g.audiences && `only ${g.audiences.join(", ")}`,
              g.needed_by && `needed by ${g.needed_by.join(", ")}`,
              g.reason,
            ]
              .filter(Boolean)
              .join(" · ")}
          </Typography.Text>
          {g.grants && <Grants all={g.grants} />}
        </li>
      ))}
    </ul>
  );
}

/** A capture of the endpoint, the newest leaking one unless another is chosen. */
function Wire({ endpoint }: { endpoint: string }) {
  const { get, set } = useAddress();
  const captures = useQuery({
    queryKey: keys.captures({ endpoint, size: 100 }),
    queryFn: () => take(api.GET("/api/v1/captures", { params: { query: { endpoint, size: 100 } } })),
  });
  const all = captures.data?.items.filter((c) => !c.skipped) ?? [];
  const chosen = Number(get("capture")) || (all.find((c) => c.findings > 0) ?? all[0])?.id || 0;
  const capture = useQuery({
    queryKey: keys.capture(chosen),
    queryFn: () => take(api.GET("/api/v1/captures/{capture_id}", { params: { path: { capture_id: chosen } } })),
    enabled: chosen > 0,
  });
  return (
    <section className="sheet" aria-label="On the wire">
      <Flex justify="space-between" gap={8} wrap>
        <Typography.Title level={2}>On the wire</Typography.Title>
        {all.length > 0 && (
          <Select
            aria-label="Capture"
            size="small"
            className="least-260"
            value={chosen}
            onChange={(v) => set({ capture: String(v) })}
            options={all.map((c) => ({
              value: c.id,
              label: `${c.audience || "?"} · ${c.status} · ${count(c.findings, "finding")} · ${ago(c.started)}`,
            }))}
          />
        )}
      </Flex>
      {captures.data && captures.data.total > captures.data.items.length && (
        <Typography.Paragraph type="secondary">{`The newest ${captures.data.items.length} of ${captures.data.total} captures can be chosen here.`}</Typography.Paragraph>
      )}
      {captures.isPending && <Loading what="captures" />}
      {captures.error && <Failed error={captures.error} again={() => captures.refetch()} />}
      {captures.data && all.length === 0 && (
        <Empty title="Never captured">
          <Link to="/captures">Send a recording</Link> that calls this endpoint.
        </Empty>
      )}
      {capture.isLoading && <Loading what="the body" />}
      {capture.error && <Failed error={capture.error} again={() => capture.refetch()} />}
      {capture.data && (
        <>
          <Typography.Paragraph>
            <Link to={`/captures/${chosen}`}>
              <Code>{`${capture.data.capture.method} ${capture.data.capture.url}`}</Code>
            </Link>{" "}
            <Typography.Text type="secondary">
              {bytes(capture.data.capture.bytes)}, {bytes(capture.data.capture.excess_bytes)} excess
            </Typography.Text>
          </Typography.Paragraph>
          {capture.data.body ? (
            <WireView
              body={capture.data.body}
              cut={capture.data.cut}
              judgedBy={capture.data.judged_by}
              at={get("at") || undefined}
            />
          ) : (
            <Empty title={capture.data.capture.skipped ?? "No body is kept"} />
          )}
        </>
      )}
    </section>
  );
}
