import { useQuery } from "@tanstack/react-query";
import { Alert, Button, Checkbox, Flex, Tag, Typography } from "antd";
import { memo, useCallback, useEffect, useRef, useState } from "react";
import { Link } from "react-router";
import { api, take, type LiveCall } from "../../api/client";
import { useAddress } from "../../shared/address";
import { bytes, count } from "../../shared/format";
import { ServicePicker, useService } from "../../shared/service";
import { Heading } from "../../shared/shell";
import { Empty, Failed, Loading } from "../../shared/states";
import { Code, severities, SeverityMark } from "../../shared/tags";
import { WireView } from "../../shared/wire/wire";
import { Following, useLive } from "./stream";
import { keys } from "../../api/keys";

/** Calls as they are made, judged, with what each carries beside the list. */
export default function Live() {
  const { services, name } = useService();
  if (services.isPending) return <Loading what="the services" />;
  if (services.error) return <Failed error={services.error} again={() => services.refetch()} />;
  return <Watch key={name} service={name} />;
}

function Watch({ service }: { service: string }) {
  const { get, set } = useAddress();
  const onlyLeaking = get("show") === "leaking";
  const [paused, setPaused] = useState(false);
  const live = useLive(service, paused);
  const shown = onlyLeaking ? live.calls.filter((c) => c.findings.length > 0) : live.calls;
  const chosen = Number(get("capture")) || 0;
  const following = chosen === 0;
  // the details follow the newest leak, but not faster than one can look
  const follow = shown.find((c) => c.findings.length > 0) ?? shown[0];
  const steady = useSteady(follow?.capture.id ?? 0, 1000);
  const beside = following ? steady : chosen;
  const choose = useCallback((id: number) => set({ capture: id ? String(id) : "" }), [set]);
  const list = useRef<HTMLDivElement>(null);
  const onKeyDown = (event: React.KeyboardEvent) => {
    if (event.key !== "ArrowDown" && event.key !== "ArrowUp") return;
    const at = shown.findIndex((c) => c.capture.id === beside);
    const to = shown[at + (event.key === "ArrowDown" ? 1 : -1)];
    if (!to) return;
    choose(to.capture.id);
    requestAnimationFrame(() => list.current?.querySelector<HTMLElement>(`[data-capture="${to.capture.id}"]`)?.focus());
    event.preventDefault();
  };
  return (
    <>
      <Heading
        title={live.leaking ? `(${live.leaking}) Live` : "Live"}
        aside={
          <Flex gap={8} wrap align="center">
            <ServicePicker />
            <Checkbox checked={onlyLeaking} onChange={(e) => set({ show: e.target.checked ? "leaking" : "" })}>
              only with findings
            </Checkbox>
            <Checkbox
              checked={following}
              disabled={shown.length === 0}
              onChange={(e) => choose(e.target.checked ? 0 : beside)}
            >
              follow the newest leak
            </Checkbox>
            <Button onClick={() => setPaused(!paused)} aria-pressed={paused}>
              {paused ? `Go on${live.waiting ? ` (${live.waiting} wait)` : ""}` : "Pause"}
            </Button>
            <Button onClick={live.clear} disabled={live.calls.length === 0}>
              Clear
            </Button>
          </Flex>
        }
      >
        Live
      </Heading>
      <Flex gap={16} wrap align="center" className="below-8" role="status">
        <span>
          <i className={`live-dot${live.following === Following.Connected ? "" : " waiting"}`} aria-hidden />
          {
            {
              [Following.Connecting]: "connecting…",
              [Following.Connected]: "watching",
              [Following.Lost]: "the connection was lost; trying again…",
            }[live.following]
          }
        </span>
        <strong>{count(live.seen, "call")}</strong>
        <span>{live.leaking} with findings</span>
        {severities
          .filter((s) => live.bySeverity[s])
          .map((s) => (
            <span key={s}>
              {live.bySeverity[s]} <SeverityMark severity={s} />
            </span>
          ))}
        {live.batch && (
          <Link to={`/captures?batch=${live.batch.id}`}>
            {live.batch.name} {live.batch.growing ? "" : <Tag>complete</Tag>}
          </Link>
        )}
        {live.batch?.dropped ? (
          <Typography.Text type="warning">
            ▲ {count(live.batch.dropped, "capture")} dropped by the recorder
          </Typography.Text>
        ) : null}
        {live.missed > 0 && (
          <Typography.Text type="warning">
            ▲ {count(live.missed, "call")} came faster than they could be shown; they are among the captures
          </Typography.Text>
        )}
      </Flex>
      {live.calls.length === 0 ? (
        <Waiting />
      ) : (
        <div className="split live">
          <div
            ref={list}
            className="sheet live-list padding-0"
            role="listbox"
            aria-label="Calls, newest first"
            onKeyDown={onKeyDown}
          >
            {shown.length === 0 && <Empty title="None of the calls has findings" />}
            {shown.map((c) => (
              <Row key={c.capture.id} call={c} chosen={c.capture.id === beside} choose={choose} />
            ))}
          </div>
          <section className="sheet" aria-label="On the wire">
            {beside ? <Beside capture={beside} /> : <Empty title="Choose a call" />}
          </section>
        </div>
      )}
    </>
  );
}

const clock = new Intl.DateTimeFormat(undefined, {
  hour: "2-digit",
  minute: "2-digit",
  second: "2-digit",
  hourCycle: "h23",
});

const Row = memo(function Row({
  call,
  chosen,
  choose,
}: {
  call: LiveCall;
  chosen: boolean;
  choose: (id: number) => void;
}) {
  const { capture: c, findings } = call;
  const gravest = severities.find((s) => findings.some((f) => f.severity === s));
  const place = c.url.replace(/^https?:\/\/[^/]*/, "");
  return (
    <button
      type="button"
      role="option"
      aria-selected={chosen}
      data-capture={c.id}
      className={`live-row${chosen ? " chosen" : ""}`}
      onClick={() => choose(c.id)}
      title={c.skipped ? `skipped: ${c.skipped}` : c.incomplete ? `incomplete: ${c.incomplete}` : c.endpoint}
    >
      <span className="faint">{c.started ? clock.format(new Date(c.started)) : ""}</span>
      <span className="live-call code">
        {c.method} {place}
      </span>
      <span className="faint">{c.audience}</span>
      <span className="number">{c.status || "–"}</span>
      <span className="number">{bytes(c.bytes)}</span>
      <span>
        {gravest ? (
          <>
            <SeverityMark severity={gravest} /> {findings.length > 1 ? findings.length : ""}
          </>
        ) : (
          <span className="faint">{c.skipped ? "skipped" : c.incomplete ? "incomplete" : "✓"}</span>
        )}
      </span>
    </button>
  );
});

function Beside({ capture }: { capture: number }) {
  const detail = useQuery({
    queryKey: keys.capture(capture),
    queryFn: () => take(api.GET("/api/v1/captures/{capture_id}", { params: { path: { capture_id: capture } } })),
    placeholderData: (old) => old,
  });
  if (detail.isPending) return <Loading what="the capture" />;
  if (detail.error) return <Failed error={detail.error} again={() => detail.refetch()} />;
  const { capture: c, body, cut, judged_by } = detail.data;
  return (
    <>
      <Flex justify="space-between" gap={8} wrap className="below-6">
        <Code>{`${c.method} ${c.url}`}</Code>
        <Link to={`/captures/${c.id}`}>capture {c.id}</Link>
      </Flex>
      {body ? (
        <WireView key={c.id} body={body} cut={cut} judgedBy={judged_by} />
      ) : (
        <Empty title={c.skipped ?? "No body is kept"} />
      )}
    </>
  );
}

/** The empty state: nothing came yet, and how to send something. */
function Waiting() {
  return (
    <Alert
      type="info"
      showIcon
      title="No call yet. Stand a recorder before the API, and point the client at it:"
      description={
        <div className="stack tight">
          <Code copyable>inkret record --upstream http://127.0.0.1:8080 --listen 127.0.0.1:7467</Code>
        </div>
      }
    />
  );
}

/** A value that changes at most once in so many milliseconds. */
function useSteady<T>(value: T, least: number): T {
  const [steady, setSteady] = useState(value);
  const changed = useRef(0);
  useEffect(() => {
    if (value === steady) return;
    const wait = Math.max(0, changed.current + least - Date.now());
    const later = setTimeout(() => {
      changed.current = Date.now();
      setSteady(value);
    }, wait);
    return () => clearTimeout(later);
  }, [value, steady, least]);
  return steady;
}
