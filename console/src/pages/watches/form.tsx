import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Alert, App, Checkbox, Flex, Input, InputNumber, Modal, Select, Table, Typography } from "antd";
import { useState } from "react";
import { useNavigate } from "react-router";
import { api, ApiProblem, take, type Watch, type WatchableCall, type WatchDetail } from "../../api/client";
import { changed, keys } from "../../api/keys";
import { count } from "../../shared/format";
import { Empty, Failed } from "../../shared/states";
import { Code } from "../../shared/tags";

export const callersOf = (w: Watch) =>
  w.callers.length === 0
    ? "as recorded"
    : w.callers.map((c) => c.audience + (c.person ? ` (${c.person})` : "")).join(", ");

const usual: Record<number, string> = { 1: "hour", 24: "day", 168: "week" };

export const everyOf = (w: Watch) =>
  `${usual[w.every_hours] ?? `${w.every_hours} hours`}${w.window ? `, ${w.window} UTC` : ""}`;

/** Makes a watch, or changes one. */
export function WatchForm({ service, of, close }: { service: string; of?: WatchDetail; close: () => void }) {
  const { message } = App.useApp();
  const navigate = useNavigate();
  const queries = useQueryClient();
  const was = of?.watch;
  const [name, setName] = useState(was?.name ?? "nightly");
  const [hours, setHours] = useState(was?.every_hours ?? 24);
  const [window, setWindow] = useState(was?.window ?? "");
  const [rate, setRate] = useState(was?.per_minute ?? 30);
  const [server, setServer] = useState(was?.server ?? "");
  const [callers, setCallers] = useState<string[]>(
    was?.callers.map((c) => JSON.stringify([c.audience, c.person ?? ""])) ?? [],
  );
  const [chosen, setChosen] = useState<number[] | undefined>(of?.calls.map((c) => c.capture_id));
  const proposed = useQuery({
    queryKey: keys.watchable(service),
    queryFn: () => take(api.GET("/api/v1/services/{service}/watchable", { params: { path: { service } } })),
  });
  const credentials = useQuery({
    queryKey: keys.credentials(service),
    queryFn: () => take(api.GET("/api/v1/services/{service}/credentials", { params: { path: { service } } })),
  });
  const servers = useQuery({
    queryKey: keys.servers(service),
    queryFn: () => take(api.GET("/api/v1/services/{service}/servers", { params: { path: { service } } })),
  });
  const kept: WatchableCall[] = (of?.calls ?? []).map((c) => ({ ...c, why: "it is one of its calls" }));
  const calls = [...kept, ...(proposed.data ?? []).filter((p) => !kept.some((k) => k.capture_id === p.capture_id))];
  const captures = chosen ?? (proposed.data ?? []).map((p) => p.capture_id);
  const save = useMutation({
    mutationFn: () => {
      const body = {
        name: name.trim(),
        captures: was && chosen === undefined ? undefined : captures,
        callers: callers.map((c) => {
          const [audience, person] = JSON.parse(c) as [string, string];
          return { audience, person: person || undefined };
        }),
        every_hours: hours,
        window: window.trim(),
        per_minute: rate,
        server,
      };
      return was
        ? take(api.PUT("/api/v1/watches/{watch_id}", { params: { path: { watch_id: was.id } }, body }))
        : take(api.POST("/api/v1/services/{service}/watches", { params: { path: { service } }, body }));
    },
    onSuccess: (d) => {
      void changed(queries, "watches");
      message.success(was ? "Changed" : "It is watched from now on");
      close();
      navigate(`/watches/${d.watch.id}`);
    },
  });
  return (
    <Modal
      title={was ? `Change ${was.name}` : "New watch"}
      open
      width={860}
      onCancel={close}
      onOk={() => save.mutate()}
      okText={was ? "Change it" : "Make it"}
      okButtonProps={{ loading: save.isPending, disabled: !name.trim() || captures.length === 0 }}
    >
      <div className="stack">
        <Flex gap={12} wrap>
          <label>
            Name <Input value={name} maxLength={100} onChange={(e) => setName(e.target.value)} autoFocus />
          </label>
          <label>
            Every{" "}
            <Select
              aria-label="Every"
              className="wide-170"
              value={hours}
              onChange={setHours}
              options={[1, 2, 3, 6, 12, 24, 48, 168].map((h) => ({ value: h, label: usual[h] ?? `${h} hours` }))}
            />
          </label>
          <label>
            Only between, UTC{" "}
            <Input
              className="wide-170"
              value={window}
              placeholder="all day, or 22:00-05:00"
              onChange={(e) => setWindow(e.target.value)}
            />
          </label>
          <label>
            Calls a minute{" "}
            <InputNumber
              min={1}
              max={600}
              value={rate}
              onChange={(v) => setRate(v ?? 30)}
              aria-label="Calls a minute"
            />
          </label>
        </Flex>
        <label>
          As{" "}
          <Select
            mode="multiple"
            aria-label="As whom"
            className="wide-full"
            value={callers}
            onChange={setCallers}
            placeholder="who made each call"
            options={credentials.data?.map((k) => ({
              value: JSON.stringify([k.audience, k.person ?? ""]),
              label: k.audience + (k.person ? ` (${k.person})` : ""),
            }))}
          />
        </label>
        {(servers.data?.filter((s) => s.allowed).length ?? 0) > 1 && (
          <label>
            At the server{" "}
            <Select
              aria-label="Server"
              className="wide-full"
              value={server}
              onChange={setServer}
              options={[
                { value: "", label: "the one that each was made at" },
                ...servers.data!.filter((s) => s.allowed).map((s) => ({ value: s.server, label: s.server })),
              ]}
            />
          </label>
        )}
        <Typography.Text strong>
          {`${count(captures.length * Math.max(1, callers.length), "call")} each run`}
        </Typography.Text>
        {proposed.error ? (
          <Failed error={proposed.error} again={() => proposed.refetch()} />
        ) : (
          <Table<WatchableCall>
            size="small"
            rowKey="capture_id"
            aria-label="Calls to watch"
            loading={proposed.isPending}
            dataSource={calls}
            pagination={{ pageSize: 8, hideOnSinglePage: true, showSizeChanger: false }}
            locale={{ emptyText: <Empty title="No safe call is recorded yet">Record some traffic first.</Empty> }}
            columns={[
              {
                title: (
                  <Checkbox
                    aria-label="All of them"
                    checked={calls.length > 0 && captures.length === calls.length}
                    indeterminate={captures.length > 0 && captures.length < calls.length}
                    onChange={(e) => setChosen(e.target.checked ? calls.map((c) => c.capture_id) : [])}
                  />
                ),
                width: 40,
                render: (_, c) => (
                  <Checkbox
                    aria-label={`${c.method} ${c.url} as ${c.audience}`}
                    checked={captures.includes(c.capture_id)}
                    onChange={(e) =>
                      setChosen(
                        e.target.checked ? [...captures, c.capture_id] : captures.filter((id) => id !== c.capture_id),
                      )
                    }
                  />
                ),
              },
              { title: "Call", render: (_, c) => <Code>{`${c.method} ${c.url}`}</Code> },
              { title: "Audience", width: 120, dataIndex: "audience" },
              { title: "Why", width: 230, dataIndex: "why" },
            ]}
          />
        )}
        {save.error && (
          <Alert
            role="alert"
            type="error"
            showIcon
            title={save.error instanceof ApiProblem ? save.error.message : "This did not reach the service."}
          />
        )}
      </div>
    </Modal>
  );
}
