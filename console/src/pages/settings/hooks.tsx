import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { App, Button, Drawer, Flex, Form, Input, Modal, Popconfirm, Select, Table, Tag, Typography } from "antd";
import { useState } from "react";
import { api, take, type Delivery, type Hook, type Severity } from "../../api/client";
import { ago, time } from "../../shared/format";
import { useMay } from "../../shared/session";
import { Empty, Failed, useFailed } from "../../shared/states";
import { Code, severities } from "../../shared/tags";
import { keys } from "../../api/keys";

const kinds = ["found", "returned", "closed", "moved", "assigned", "due", "labelled", "comment", "waiver"] as const;

/** Other programs that are told what happens to findings. */
export function Hooks() {
  const may = useMay("administrator");
  const queries = useQueryClient();
  const failed = useFailed();
  const { message } = App.useApp();
  const [adding, setAdding] = useState(false);
  const [secret, setSecret] = useState<string>();
  const [looked, setLooked] = useState<Hook>();
  const list = useQuery({ queryKey: keys.hooks(), queryFn: () => take(api.GET("/api/v1/hooks")) });
  const again = () => void queries.invalidateQueries({ queryKey: keys.hooks() });
  const drop = useMutation({
    mutationFn: (id: number) => take(api.DELETE("/api/v1/hooks/{hook_id}", { params: { path: { hook_id: id } } })),
    onSuccess: again,
    onError: failed,
  });
  const test = useMutation({
    mutationFn: (id: number) => take(api.POST("/api/v1/hooks/{hook_id}/test", { params: { path: { hook_id: id } } })),
    onSuccess: () => void message.success("A test is on its way"),
    onError: failed,
  });
  if (list.error) return <Failed error={list.error} again={() => list.refetch()} />;
  return (
    <section className="sheet" aria-label="Hooks">
      <Flex justify="space-between" gap={8} className="below-8">
        <Typography.Title level={2}>Programs that are told what happens to findings</Typography.Title>
        {may && <Button onClick={() => setAdding(true)}>Add one…</Button>}
      </Flex>
      <Table<Hook>
        size="small"
        rowKey="id"
        loading={list.isPending}
        dataSource={list.data}
        pagination={false}
        locale={{
          emptyText: (
            <Empty title="None is told">
              A hook gets a signed event for each thing that happens, and no value that leaked.
            </Empty>
          ),
        }}
        columns={[
          {
            title: "Hook",
            render: (_, h) => (
              <>
                {h.name} <Code>{h.url}</Code>
                {h.address && <Typography.Text type="secondary"> reached at {h.address}</Typography.Text>}
              </>
            ),
          },
          {
            title: "Told of",
            width: 220,
            render: (_, h) =>
              [
                h.kinds.length ? h.kinds.join(", ") : "everything",
                h.least !== "info" ? `${h.least} or graver` : "",
                h.service ? `of ${h.service}` : "",
              ]
                .filter(Boolean)
                .join("; "),
          },
          { title: "Waiting", width: 80, align: "right", dataIndex: "waiting" },
          {
            title: "Given up",
            width: 90,
            align: "right",
            render: (_, h) => (h.failed ? <Typography.Text type="danger">⚠ {h.failed}</Typography.Text> : 0),
          },
          {
            title: "",
            width: 270,
            render: (_, h) => (
              <Flex gap={6}>
                <Button size="small" onClick={() => setLooked(h)}>
                  What it was told
                </Button>
                <Button
                  size="small"
                  loading={test.isPending && test.variables === h.id}
                  onClick={() => test.mutate(h.id)}
                >
                  Test
                </Button>
                {may && (
                  <Popconfirm
                    title={`Tell ${h.name} nothing any more?`}
                    okText="Drop it"
                    cancelText="Leave it"
                    onConfirm={() => drop.mutate(h.id)}
                  >
                    <Button size="small">Drop…</Button>
                  </Popconfirm>
                )}
              </Flex>
            ),
          },
        ]}
      />
      {adding && (
        <Add
          close={(made) => {
            setAdding(false);
            if (made) {
              setSecret(made);
              again();
            }
          }}
        />
      )}
      <Modal
        open={!!secret}
        title="Its secret"
        onCancel={() => setSecret(undefined)}
        footer={<Button onClick={() => setSecret(undefined)}>Close</Button>}
      >
        <Typography.Paragraph>
          The program checks signatures with it (Standard Webhooks). It is shown this once.
        </Typography.Paragraph>
        {secret && <Code copyable>{secret}</Code>}
      </Modal>
      <Drawer title={`What ${looked?.name} was told`} open={!!looked} onClose={() => setLooked(undefined)} size={900}>
        {looked && <Deliveries hook={looked.id} />}
      </Drawer>
    </section>
  );
}

function Deliveries({ hook }: { hook: number }) {
  const [page, setPage] = useState(1);
  const queries = useQueryClient();
  const failed = useFailed();
  const list = useQuery({
    queryKey: keys.deliveries(hook, page),
    queryFn: () =>
      take(
        api.GET("/api/v1/hooks/{hook_id}/deliveries", {
          params: { path: { hook_id: hook }, query: { page, size: 20 } },
        }),
      ),
    refetchInterval: 5_000,
  });
  const again = useMutation({
    mutationFn: (id: number) =>
      take(api.POST("/api/v1/deliveries/{delivery_id}/again", { params: { path: { delivery_id: id } } })),
    onSuccess: () => queries.invalidateQueries({ queryKey: keys.deliveries(hook) }),
    onError: failed,
  });
  if (list.error) return <Failed error={list.error} again={() => list.refetch()} />;
  const sign = { waiting: "◷", taken: "✓", "given up": "✕" } as const;
  return (
    <Table<Delivery>
      size="small"
      rowKey="id"
      loading={list.isPending}
      dataSource={list.data?.items}
      pagination={{
        current: page,
        pageSize: 20,
        total: list.data?.total,
        showSizeChanger: false,
        hideOnSinglePage: true,
        onChange: setPage,
      }}
      locale={{ emptyText: <Empty title="Nothing yet" /> }}
      expandable={{
        expandedRowRender: (d) => (
          <pre className="code space-pre-wrap margin-0">{JSON.stringify(JSON.parse(d.event), null, 2)}</pre>
        ),
      }}
      columns={[
        { title: "Event", render: (_, d) => <Code>{(JSON.parse(d.event) as { type: string }).type}</Code> },
        { title: "Made", width: 130, render: (_, d) => <span title={time(d.made)}>{ago(d.made)}</span> },
        {
          title: "State",
          width: 110,
          render: (_, d) => (
            <Tag
              variant="outlined"
              color={d.state === "given up" ? "error" : undefined}
            >{`${sign[d.state]} ${d.state}`}</Tag>
          ),
        },
        { title: "Tries", width: 60, align: "right", dataIndex: "tries" },
        {
          title: "What came of it",
          render: (_, d) =>
            d.state === "waiting" && d.tries > 0 ? `${d.said}; next ${d.next ? time(d.next) : ""}` : d.said,
        },
        {
          title: "",
          width: 110,
          render: (_, d) => (
            <Button
              size="small"
              loading={again.isPending && again.variables === d.id}
              onClick={() => again.mutate(d.id)}
            >
              Once more
            </Button>
          ),
        },
      ]}
    />
  );
}

interface NewHook {
  name: string;
  url: string;
  address?: string;
  kinds?: (typeof kinds)[number][];
  least?: Severity;
}

function Add({ close }: { close: (secret?: string) => void }) {
  const [form] = Form.useForm<NewHook>();
  const failed = useFailed();
  const add = useMutation({
    mutationFn: (h: NewHook) => take(api.POST("/api/v1/hooks", { body: { ...h, address: h.address || undefined } })),
    onSuccess: (made) => close(made.secret),
    onError: failed,
  });
  return (
    <Modal
      open
      title="Tell a program"
      okText="Add"
      cancelText="Leave"
      onCancel={() => close()}
      onOk={() => form.submit()}
      confirmLoading={add.isPending}
    >
      <Form form={form} layout="vertical" requiredMark={false} initialValues={{ least: "info" }} onFinish={add.mutate}>
        <Form.Item
          label="Name"
          name="name"
          rules={[{ required: true, whitespace: true, message: "What is it called?" }]}
        >
          <Input maxLength={100} autoFocus />
        </Form.Item>
        <Form.Item
          label="URL"
          name="url"
          rules={[{ required: true, type: "url", message: "An address of https, or of http inside" }]}
        >
          <Input placeholder="https://board.example/inkret" />
        </Form.Item>
        <Form.Item label="Reached at, if that is inside" name="address">
          <Input placeholder="http://10.0.0.7:8080" />
        </Form.Item>
        <Form.Item label="Only events that are" name="kinds">
          <Select mode="multiple" placeholder="everything" options={kinds.map((k) => ({ value: k, label: k }))} />
        </Form.Item>
        <Form.Item label="Only findings that are as grave as" name="least">
          <Select options={severities.map((s) => ({ value: s, label: s }))} />
        </Form.Item>
      </Form>
    </Modal>
  );
}
