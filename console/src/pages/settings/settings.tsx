import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import {
  Alert,
  App,
  Button,
  Flex,
  Input,
  InputNumber,
  Modal,
  Popconfirm,
  Radio,
  Select,
  Table,
  Typography,
} from "antd";
import { useState } from "react";
import { Link } from "react-router";
import { api, take, type CalledServer, type KeptCredentials, type Severity } from "../../api/client";
import { ago, time } from "../../shared/format";
import { ServicePicker, useService } from "../../shared/service";
import { useMay } from "../../shared/session";
import { Heading } from "../../shared/shell";
import { Empty, Failed, Loading, useFailed } from "../../shared/states";
import { Hooks } from "./hooks";
import { Mails } from "./mails";
import { Code, severities, SeverityMark } from "../../shared/tags";
import { changed, keys } from "../../api/keys";

/** Settings of a service: where calls may be repeated, with which credentials, and how long bodies are kept. */
export default function Settings() {
  const { services, service, name } = useService();
  const lead = useMay("lead", "");
  const administrator = useMay("administrator");
  if (services.isPending) return <Loading what="the services" />;
  if (services.error) return <Failed error={services.error} again={() => services.refetch()} />;
  return (
    <>
      <Heading title="Settings" aside={<ServicePicker />}>
        Settings{name && ` of ${name}`}
      </Heading>
      {name ? (
        <div className="stack">
          <Servers service={name} />
          <Credentials service={name} audiences={service?.audiences ?? []} />
          <Keeping service={name} />
          <Due />
          {lead && <Hooks />}
          {administrator && <Mails />}
        </div>
      ) : (
        <Empty title="No service yet">
          <Link to="/new">Begin one</Link>
        </Empty>
      )}
    </>
  );
}

/** Sends a change, shows its result, and marks as stale what it changed. */
function useChange<T>(send: (v: T) => Promise<unknown>, done: string, after?: () => void) {
  const { message } = App.useApp();
  const queries = useQueryClient();
  const failed = useFailed();
  return useMutation({
    mutationFn: send,
    onSuccess: () => {
      void changed(queries, "settings");
      void message.success(done);
      after?.();
    },
    onError: failed,
  });
}

/** The number of days in which new findings are due. */
function Due() {
  const may = useMay("lead", "");
  const due = useQuery({ queryKey: keys.due(), queryFn: () => take(api.GET("/api/v1/findings/due")) });
  const [days, setDays] = useState<Partial<Record<Severity, number>>>({});
  const save = useChange(
    () => take(api.PUT("/api/v1/findings/due", { body: { ...due.data!, ...days } })),
    "Findings that are new from now on are due so",
    () => setDays({}),
  );
  if (due.error) return <Failed error={due.error} again={() => due.refetch()} />;
  return (
    <section className="sheet" aria-label="Due days">
      <Typography.Title level={2}>Within how many days a new finding is due, in all services</Typography.Title>
      <Flex gap={16} wrap align="end">
        {severities.map((s) => (
          <label key={s}>
            <SeverityMark severity={s} />
            <br />
            <InputNumber
              aria-label={`Days for ${s}`}
              min={0}
              max={3650}
              disabled={!may || due.isPending}
              value={days[s] ?? due.data?.[s]}
              onChange={(n) => setDays({ ...days, [s]: n ?? 0 })}
            />
          </label>
        ))}
        {may && (
          <Button
            type="primary"
            disabled={Object.keys(days).length === 0}
            loading={save.isPending}
            onClick={() => save.mutate(undefined)}
          >
            Save
          </Button>
        )}
      </Flex>
      <Typography.Text type="secondary">0 is no day.</Typography.Text>
    </section>
  );
}

function Servers({ service }: { service: string }) {
  const may = useMay("administrator");
  const [allowing, setAllowing] = useState<string>();
  const list = useQuery({
    queryKey: keys.servers(service),
    queryFn: () => take(api.GET("/api/v1/services/{service}/servers", { params: { path: { service } } })),
  });
  const forbid = useChange(
    (server: string) =>
      take(api.DELETE("/api/v1/services/{service}/servers", { params: { path: { service }, query: { server } } })),
    "No calls go there any more",
  );
  if (list.error) return <Failed error={list.error} again={() => list.refetch()} />;
  return (
    <section className="sheet" aria-label="Servers">
      <Typography.Title level={2}>Servers to which recorded calls may be made again</Typography.Title>
      <Table<CalledServer>
        size="small"
        rowKey="server"
        loading={list.isPending}
        dataSource={list.data}
        pagination={false}
        locale={{
          emptyText: (
            <Empty title="The contracts declare no servers">Write them under servers: in the contract file.</Empty>
          ),
        }}
        columns={[
          { title: "Server", render: (_, s) => <Code>{s.server}</Code> },
          {
            title: "Calls again",
            width: 160,
            render: (_, s) =>
              s.allowed ? (
                <Typography.Text type="success">✓ allowed</Typography.Text>
              ) : (
                <Typography.Text type="secondary">− not allowed</Typography.Text>
              ),
          },
          {
            title: "Reached at",
            width: 230,
            render: (_, s) => (s.allowed ? s.address ? <Code>{s.address}</Code> : "where its name leads" : ""),
          },
          {
            title: "By",
            width: 200,
            render: (_, s) => s.author && <span title={time(s.at)}>{`${s.author}, ${ago(s.at)}`}</span>,
          },
          {
            title: "",
            width: 180,
            render: (_, s) =>
              may && (
                <Flex gap={6}>
                  <Button size="small" onClick={() => setAllowing(s.server)}>
                    {s.allowed ? "Change…" : "Allow…"}
                  </Button>
                  {s.allowed && (
                    <Popconfirm
                      title="Make no more calls to it?"
                      okText="Forbid"
                      onConfirm={() => forbid.mutate(s.server)}
                    >
                      <Button size="small" danger>
                        Forbid
                      </Button>
                    </Popconfirm>
                  )}
                </Flex>
              ),
          },
        ]}
      />
      {!may && <Typography.Text type="secondary">An administrator allows them.</Typography.Text>}
      {allowing && (
        <Allow
          service={service}
          server={allowing}
          was={list.data?.find((s) => s.server === allowing)?.address ?? ""}
          close={() => setAllowing(undefined)}
        />
      )}
    </section>
  );
}

function Allow({ service, server, was, close }: { service: string; server: string; was: string; close: () => void }) {
  const [address, setAddress] = useState(was);
  const allow = useChange(
    () =>
      take(
        api.PUT("/api/v1/services/{service}/servers", {
          params: { path: { service } },
          body: { server, address: address.trim() || undefined },
        }),
      ),
    "Calls may be made to it again",
    close,
  );
  return (
    <Modal
      title={`Allow calls to ${server}`}
      open
      onCancel={close}
      onOk={() => allow.mutate(undefined)}
      okText="Allow"
      okButtonProps={{ loading: allow.isPending }}
    >
      <div className="stack">
        <label>
          Where it is reached; empty for where its name leads, which must be a public address
          <Input value={address} placeholder="http://127.0.0.1:7466" onChange={(e) => setAddress(e.target.value)} />
        </label>
        <Code copyable>{`inkret service allow ${server}${address.trim() ? ` --address ${address.trim()}` : ""}`}</Code>
      </div>
    </Modal>
  );
}

function Credentials({ service, audiences }: { service: string; audiences: string[] }) {
  const may = useMay("lead", service);
  const [setting, setSetting] = useState<{ audience: string; person?: string }>();
  const list = useQuery({
    queryKey: keys.credentials(service),
    queryFn: () => take(api.GET("/api/v1/services/{service}/credentials", { params: { path: { service } } })),
  });
  const remove = useChange(
    ({ audience, person }: { audience: string; person?: string }) =>
      take(
        api.DELETE("/api/v1/services/{service}/credentials/{audience}", {
          params: { path: { service, audience }, query: { person } },
        }),
      ),
    "Forgotten",
  );
  if (list.error) return <Failed error={list.error} again={() => list.refetch()} />;
  const rows = audiences.flatMap((audience): { audience: string; person?: string; kept?: KeptCredentials }[] => {
    const kept = list.data?.filter((k) => k.audience === audience) ?? [];
    return kept.length > 0
      ? kept.map((k) => ({ audience, person: k.person, kept: k }))
      : [{ audience, person: undefined, kept: undefined }];
  });
  return (
    <section className="sheet" aria-label="Credentials">
      <Typography.Title level={2}>Credentials with which they are made</Typography.Title>
      <Table<{ audience: string; person?: string; kept?: KeptCredentials }>
        size="small"
        rowKey={(r) => `${r.audience} ${r.person ?? ""}`}
        loading={list.isPending}
        dataSource={rows}
        pagination={false}
        locale={{ emptyText: <Empty title="The contracts name no audiences" /> }}
        columns={[
          { title: "Audience", width: 180, dataIndex: "audience" },
          { title: "Person", width: 120, render: (_, r) => r.person ?? (r.kept ? "the first" : "") },
          {
            title: "Header fields",
            render: (_, r) =>
              r.kept ? (
                <>{r.kept.names.map((n) => `${n}: •••`).join(", ")}</>
              ) : (
                <Typography.Text type="secondary">none</Typography.Text>
              ),
          },
          {
            title: "By",
            width: 220,
            render: (_, r) => r.kept && <span title={time(r.kept.at)}>{`${r.kept.author}, ${ago(r.kept.at)}`}</span>,
          },
          {
            title: "",
            width: 180,
            render: (_, r) =>
              may && (
                <Flex gap={6}>
                  <Button size="small" onClick={() => setSetting(r)}>
                    {r.kept ? "Replace…" : "Set…"}
                  </Button>
                  {r.kept && (
                    <Popconfirm title="Forget them?" okText="Forget" onConfirm={() => remove.mutate(r)}>
                      <Button size="small" danger>
                        Forget
                      </Button>
                    </Popconfirm>
                  )}
                </Flex>
              ),
          },
        ]}
      />
      <Typography.Text type="secondary">
        They are encrypted, and shown to nobody again. With those of a second person of an audience, the matrix of a
        call shows whose records each gets.{!may && " A lead sets them."}
      </Typography.Text>
      {setting && (
        <SetCredentials
          service={service}
          audiences={audiences}
          audience={setting.audience}
          whose={setting.person}
          close={() => setSetting(undefined)}
        />
      )}
    </section>
  );
}

function SetCredentials({
  service,
  audiences,
  audience,
  whose,
  close,
}: {
  service: string;
  audiences: string[];
  audience: string;
  whose?: string;
  close: () => void;
}) {
  const [of, setOf] = useState(audience);
  const [person, setPerson] = useState(whose ?? "");
  const [name, setName] = useState("Authorization");
  const [value, setValue] = useState("");
  const [more, setMore] = useState<{ name: string; value: string }[]>([]);
  const fields = [...more, ...(name.trim() && value ? [{ name: name.trim(), value }] : [])];
  const keep = useChange(
    () =>
      take(
        api.PUT("/api/v1/services/{service}/credentials/{audience}", {
          params: { path: { service, audience: of }, query: { person: person.trim() || undefined } },
          body: { headers: fields },
        }),
      ),
    "Kept, encrypted",
    close,
  );
  return (
    <Modal
      title="Set credentials"
      open
      onCancel={close}
      onOk={() => keep.mutate(undefined)}
      okText="Keep them"
      okButtonProps={{ loading: keep.isPending, disabled: fields.length === 0 }}
    >
      <div className="stack">
        <label>
          Audience
          <Select
            aria-label="Audience"
            className="wide-full"
            value={of}
            onChange={setOf}
            options={audiences.map((a) => ({ value: a, label: a }))}
          />
        </label>
        <label>
          Person, if there are several of the audience{" "}
          <Input
            value={person}
            maxLength={100}
            placeholder="left out for the first"
            onChange={(e) => setPerson(e.target.value)}
          />
        </label>
        {more.map((m, i) => (
          <Flex key={i} gap={8} justify="space-between">
            <Code>{`${m.name}: •••`}</Code>
            <Button size="small" onClick={() => setMore(more.filter((_, k) => k !== i))}>
              Take away
            </Button>
          </Flex>
        ))}
        <Flex gap={8}>
          <Input
            aria-label="Header field"
            className="wide-170"
            value={name}
            onChange={(e) => setName(e.target.value)}
          />
          <Input.Password
            aria-label="Its value"
            autoComplete="off"
            value={value}
            placeholder="Bearer …"
            onChange={(e) => setValue(e.target.value)}
          />
          <Button
            disabled={!name.trim() || !value}
            onClick={() => {
              setMore(fields);
              setName("");
              setValue("");
            }}
          >
            And another
          </Button>
        </Flex>
      </div>
    </Modal>
  );
}

function Keeping({ service }: { service: string }) {
  const may = useMay("administrator");
  const keeping = useQuery({
    queryKey: keys.keeping(service),
    queryFn: () => take(api.GET("/api/v1/services/{service}/keeping", { params: { path: { service } } })),
  });
  if (keeping.error) return <Failed error={keeping.error} again={() => keeping.refetch()} />;
  if (!keeping.data) return <Loading what="the keeping time" />;
  return (
    <KeepingForm key={`${keeping.data.days} ${keeping.data.bodies}`} service={service} now={keeping.data} may={may} />
  );
}

function KeepingForm({ service, now, may }: { service: string; now: { days: number; bodies: boolean }; may: boolean }) {
  const [how, setHow] = useState<"without end" | "days" | "none">(
    !now.bodies ? "none" : now.days ? "days" : "without end",
  );
  const [days, setDays] = useState(now.days || 90);
  const next = { days: how === "days" ? days : 0, bodies: how !== "none" };
  const same = next.days === now.days && next.bodies === now.bodies;
  const change = useChange(
    () => take(api.PUT("/api/v1/services/{service}/keeping", { params: { path: { service } }, body: next })),
    "Set",
  );
  return (
    <section className="sheet" aria-label="Keeping">
      <Typography.Title level={2}>How long captured bodies are kept</Typography.Title>
      <Radio.Group
        vertical
        disabled={!may}
        value={how}
        onChange={(e) => setHow(e.target.value)}
        options={[
          { value: "without end", label: "without end" },
          {
            value: "days",
            label: (
              <Flex gap={6} align="center">
                for{" "}
                <InputNumber
                  aria-label="Days"
                  min={1}
                  max={3660}
                  value={days}
                  disabled={!may || how !== "days"}
                  onChange={(v) => v && setDays(v)}
                />{" "}
                days; then bodies and masked samples are dropped, findings stay
              </Flex>
            ),
          },
          { value: "none", label: "not at all: new captures are judged as they come in, and only their outline stays" },
        ]}
      />
      {may ? (
        <Flex gap={8} className="above-10" align="center">
          <Popconfirm
            title="Bodies whose time is over are dropped at once, for good."
            okText="Set it"
            disabled={same || how !== "days"}
            onConfirm={() => change.mutate(undefined)}
          >
            <Button
              type="primary"
              disabled={same}
              loading={change.isPending}
              onClick={() => how !== "days" && change.mutate(undefined)}
            >
              Set
            </Button>
          </Popconfirm>
          <Code
            copyable
          >{`inkret service keeping${how === "none" ? " --bodies=false" : ` --days ${next.days}${now.bodies ? "" : " --bodies"}`}`}</Code>
        </Flex>
      ) : (
        <Alert type="info" className="above-8" title="An administrator sets it." />
      )}
    </section>
  );
}
