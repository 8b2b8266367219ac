import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Alert, Button, Flex, Form, Input, InputNumber, Modal, Popconfirm, Select, Table, Typography } from "antd";
import { useState } from "react";
import { api, ApiProblem, take, type Scope, type Token } from "../../api/client";
import { ago, time } from "../../shared/format";
import { Empty, Failed, useFailed } from "../../shared/states";
import { Code } from "../../shared/tags";
import { keys } from "../../api/keys";

const scopes: Record<Scope, string> = {
  read: "read",
  record: "read, and send recordings and results",
  everything: "everything that you may",
};

interface Wish {
  name: string;
  scope: Scope;
  service?: string;
  days: number;
}

/** Tokens for programs: what each may do, and until when. */
export function Tokens() {
  const queries = useQueryClient();
  const failed = useFailed();
  const list = useQuery({ queryKey: keys.tokens(), queryFn: () => take(api.GET("/api/v1/tokens")) });
  const [making, setMaking] = useState(false);
  const [secret, setSecret] = useState<string>();
  const end = useMutation({
    mutationFn: (id: number) => take(api.DELETE("/api/v1/tokens/{token_id}", { params: { path: { token_id: id } } })),
    onSuccess: () => queries.invalidateQueries({ queryKey: keys.tokens() }),
    onError: failed,
  });
  if (list.error) return <Failed error={list.error} again={() => list.refetch()} />;
  return (
    <section className="sheet" aria-label="Tokens">
      <Flex justify="space-between" align="start" className="below-8">
        <Typography.Title level={2}>Tokens for programs</Typography.Title>
        <Button onClick={() => setMaking(true)}>Make a token…</Button>
      </Flex>
      <Table<Token>
        size="small"
        rowKey="id"
        loading={list.isPending}
        dataSource={list.data}
        pagination={{ pageSize: 10, hideOnSinglePage: true }}
        locale={{ emptyText: <Empty title="No token is in use">A pipeline or a recorder signs in with one.</Empty> }}
        columns={[
          { title: "Name", dataIndex: "name" },
          { title: "May", render: (_, k) => `${k.scope}${k.service ? ` at ${k.service}` : ""}` },
          {
            title: "Last used",
            render: (_, k) => (k.last_used ? <span title={time(k.last_used)}>{ago(k.last_used)}</span> : "never"),
          },
          { title: "Ends", render: (_, k) => time(k.expires) },
          {
            title: "",
            width: 90,
            render: (_, k) => (
              <Popconfirm
                title={`End the token ${k.name}?`}
                description="What uses it is turned away from then on."
                okText="End it"
                cancelText="Leave"
                onConfirm={() => end.mutate(k.id)}
              >
                <Button size="small" aria-label={`End the token ${k.name}`}>
                  End…
                </Button>
              </Popconfirm>
            ),
          },
        ]}
      />
      {making && (
        <Make
          close={(made) => {
            setMaking(false);
            setSecret(made);
          }}
        />
      )}
      <Modal
        open={!!secret}
        title="The token"
        onCancel={() => setSecret(undefined)}
        footer={<Button onClick={() => setSecret(undefined)}>I have kept it</Button>}
        mask={{ closable: false }}
      >
        <Typography.Paragraph>
          It is shown this once. A program is given it as INKRET_TOKEN, or sends it as a bearer token.
        </Typography.Paragraph>
        {secret && <Code copyable>{secret}</Code>}
      </Modal>
    </section>
  );
}

function Make({ close }: { close: (secret?: string) => void }) {
  const [form] = Form.useForm<Wish>();
  const queries = useQueryClient();
  const services = useQuery({ queryKey: keys.services(), queryFn: () => take(api.GET("/api/v1/services")) });
  const make = useMutation({
    mutationFn: (body: Wish) => take(api.POST("/api/v1/tokens", { body })),
    onSuccess: (made) => {
      void queries.invalidateQueries({ queryKey: keys.tokens() });
      close(made.secret);
    },
  });
  return (
    <Modal
      open
      title="Make a token"
      okText="Make it"
      cancelText="Leave"
      onCancel={() => close()}
      onOk={() => form.submit()}
      confirmLoading={make.isPending}
    >
      <Form
        form={form}
        layout="vertical"
        requiredMark={false}
        initialValues={{ scope: "record", days: 90 }}
        onFinish={make.mutate}
      >
        <Form.Item
          label="What uses it"
          name="name"
          rules={[{ required: true, whitespace: true, message: "Say it, to know it again" }]}
        >
          <Input autoFocus maxLength={100} placeholder="nightly pipeline" />
        </Form.Item>
        <Form.Item label="It may" name="scope">
          <Select options={Object.entries(scopes).map(([value, label]) => ({ value, label }))} />
        </Form.Item>
        <Form.Item label="Only at" name="service" extra="At others it reads alone.">
          <Select
            allowClear
            placeholder="all services"
            loading={services.isPending}
            options={services.data?.map((s) => ({ value: s.name, label: s.name }))}
          />
        </Form.Item>
        <Form.Item label="Days that it lives" name="days" rules={[{ required: true, message: "1 to 366" }]}>
          <InputNumber min={1} max={366} />
        </Form.Item>
        {make.error && (
          <Alert
            role="alert"
            type="error"
            showIcon
            title={
              make.error instanceof ApiProblem
                ? make.error.message
                : "The service cannot be reached; what you wrote is still here."
            }
          />
        )}
      </Form>
    </Modal>
  );
}
