import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Alert, App, Button, Flex, Form, Input, Modal, Table, Typography } from "antd";
import { useState } from "react";
import { api, ApiProblem, take, type Session } from "../../api/client";
import { ago, count, time } from "../../shared/format";
import { useSession } from "../../shared/session";
import { Heading } from "../../shared/shell";
import { Failed, Loading, useFailed } from "../../shared/states";
import { Code } from "../../shared/tags";
import { Mail } from "./mail";
import { Tokens } from "./tokens";
import { keys } from "../../api/keys";

/** The account: password, second factor, sessions, tokens. */
export default function You() {
  const session = useSession();
  if (!session.data) return <Loading what="who you are" />;
  return (
    <>
      <Heading
        title="You"
        aside={<Typography.Text type="secondary">{`${session.data.email}, ${session.data.role}`}</Typography.Text>}
      >
        {session.data.name}
      </Heading>
      <div className="stack most-760">
        <Password />
        <Factor />
        <Mail />
        <Sessions />
        <Tokens />
      </div>
    </>
  );
}

const shortest = 12;

function Password() {
  const [form] = Form.useForm<{ old: string; new: string }>();
  const { message } = App.useApp();
  const queries = useQueryClient();
  const change = useMutation({
    mutationFn: (body: { old: string; new: string }) => take(api.PUT("/api/v1/session/password", { body })),
    onSuccess: () => {
      form.resetFields();
      void queries.invalidateQueries({ queryKey: keys.sessions() });
      void message.success("Changed; your other sessions have ended");
    },
  });
  return (
    <section className="sheet" aria-label="Password">
      <Typography.Title level={2}>Password</Typography.Title>
      <Form form={form} layout="vertical" requiredMark={false} onFinish={change.mutate} disabled={change.isPending}>
        <Flex gap={12} wrap>
          <Form.Item
            label="Now"
            name="old"
            rules={[{ required: true, message: "Your password as it is" }]}
            className="wide-240"
          >
            <Input.Password autoComplete="current-password" />
          </Form.Item>
          <Form.Item
            label="From now on"
            name="new"
            extra={`At least ${shortest} characters; a sentence is good.`}
            rules={[{ required: true, min: shortest, message: `At least ${shortest} characters` }]}
            className="wide-300"
          >
            <Input.Password autoComplete="new-password" />
          </Form.Item>
        </Flex>
        {change.error && (
          <Alert
            role="alert"
            type="error"
            showIcon
            title={
              change.error instanceof ApiProblem ? change.error.message : "The service cannot be reached; try again."
            }
            className="below-12"
          />
        )}
        <Button htmlType="submit" loading={change.isPending}>
          Change the password
        </Button>
      </Form>
    </section>
  );
}

function Factor() {
  const queries = useQueryClient();
  const { message } = App.useApp();
  const stands = useQuery({ queryKey: keys.factor(), queryFn: () => take(api.GET("/api/v1/second-factor")) });
  const [codes, setCodes] = useState<string[]>();
  const [ending, setEnding] = useState(false);
  const [beginning, setBeginning] = useState(false);
  const begin = useMutation({
    mutationFn: (body: { password?: string }) =>
      take(api.POST("/api/v1/second-factor", { body: { password: body.password ?? "" } })),
    onSuccess: () => setBeginning(false),
  });
  const confirm = useMutation({
    mutationFn: (body: { code: string }) => take(api.POST("/api/v1/second-factor/confirmation", { body })),
    onSuccess: (out) => {
      setCodes(out.codes);
      begin.reset();
      void queries.invalidateQueries({ queryKey: keys.factor() });
    },
  });
  const end = useMutation({
    mutationFn: (body: { password: string; code: string }) => take(api.POST("/api/v1/second-factor/end", { body })),
    onSuccess: () => {
      setEnding(false);
      void queries.invalidateQueries({ queryKey: keys.factor() });
      void message.success("Your second factor has ended");
    },
  });
  if (stands.error) return <Failed error={stands.error} again={() => stands.refetch()} />;
  const wrong = (e: Error | null) =>
    e && (
      <Alert
        role="alert"
        type="error"
        showIcon
        title={e instanceof ApiProblem ? e.message : "The service cannot be reached; try again."}
        className="below-12"
      />
    );
  return (
    <section className="sheet" aria-label="Second factor">
      <Typography.Title level={2}>Second factor</Typography.Title>
      {stands.data?.on ? (
        <>
          <Typography.Paragraph>
            ✓ You are asked for a code when you sign in. {count(stands.data.recovery_left, "recovery code")}{" "}
            {stands.data.recovery_left === 1 ? "is" : "are"} left.
          </Typography.Paragraph>
          <Button onClick={() => setEnding(true)}>End it…</Button>
        </>
      ) : begin.data ? (
        <Flex gap={20} wrap>
          <img
            src={`data:image/png;base64,${begin.data.picture}`}
            width={220}
            height={220}
            alt="The secret, for the camera of your telephone"
          />
          <div className="most-400">
            <Typography.Paragraph>
              Photograph it with an application for one-time passwords, or type the secret there:
            </Typography.Paragraph>
            <Typography.Paragraph>
              <Code copyable>{begin.data.secret}</Code>
            </Typography.Paragraph>
            <Form layout="vertical" requiredMark={false} onFinish={confirm.mutate}>
              <Form.Item label="The code that it shows" name="code" rules={[{ required: true, message: "Six digits" }]}>
                <Input inputMode="numeric" autoComplete="one-time-code" maxLength={10} className="wide-160" />
              </Form.Item>
              {wrong(confirm.error)}
              <Button type="primary" htmlType="submit" loading={confirm.isPending}>
                Confirm
              </Button>
            </Form>
          </div>
        </Flex>
      ) : (
        <>
          <Typography.Paragraph>
            A code from your telephone beside the password keeps out who has only the password.
          </Typography.Paragraph>
          <Button onClick={() => setBeginning(true)}>Set one up…</Button>
        </>
      )}
      <Modal
        open={!!codes}
        title="Your recovery codes"
        onCancel={() => setCodes(undefined)}
        footer={
          <Button type="primary" onClick={() => setCodes(undefined)}>
            I have kept them
          </Button>
        }
        mask={{ closable: false }}
      >
        <Typography.Paragraph>
          Each lets you in once where you have no code. They are shown this once.
        </Typography.Paragraph>
        <pre className="code">{codes?.join("\n")}</pre>
        <Typography.Paragraph copyable={{ text: codes?.join("\n") }}>Copy them all</Typography.Paragraph>
      </Modal>
      <Modal
        open={beginning}
        title="Set up a second factor"
        footer={null}
        onCancel={() => setBeginning(false)}
        destroyOnHidden
      >
        <Form layout="vertical" requiredMark={false} onFinish={begin.mutate}>
          <Form.Item
            label="Password"
            name="password"
            extra="If you sign in with a provider and have no password, leave it empty."
          >
            <Input.Password autoComplete="current-password" autoFocus />
          </Form.Item>
          {wrong(begin.error)}
          <Button type="primary" htmlType="submit" loading={begin.isPending}>
            Continue
          </Button>
        </Form>
      </Modal>
      <Modal
        open={ending}
        title="End the second factor"
        footer={null}
        onCancel={() => setEnding(false)}
        destroyOnHidden
      >
        <Form layout="vertical" requiredMark={false} onFinish={end.mutate}>
          <Form.Item
            label="Password"
            name="password"
            initialValue=""
            extra="If you sign in with a provider and have no password, leave it empty."
          >
            <Input.Password autoComplete="current-password" />
          </Form.Item>
          <Form.Item
            label="Code, or a recovery code"
            name="code"
            rules={[{ required: true, message: "A code is needed" }]}
          >
            <Input autoComplete="one-time-code" />
          </Form.Item>
          {wrong(end.error)}
          <Button danger htmlType="submit" loading={end.isPending}>
            End it
          </Button>
        </Form>
      </Modal>
    </section>
  );
}

function Sessions() {
  const queries = useQueryClient();
  const failed = useFailed();
  const list = useQuery({ queryKey: keys.sessions(), queryFn: () => take(api.GET("/api/v1/sessions")) });
  const end = useMutation({
    mutationFn: (id: number) =>
      take(api.DELETE("/api/v1/sessions/{session_id}", { params: { path: { session_id: id } } })),
    onSuccess: () => queries.invalidateQueries({ queryKey: keys.sessions() }),
    onError: failed,
  });
  if (list.error) return <Failed error={list.error} again={() => list.refetch()} />;
  return (
    <section className="sheet" aria-label="Sessions">
      <Typography.Title level={2}>Where you are signed in</Typography.Title>
      <Table<Session>
        size="small"
        rowKey="id"
        loading={list.isPending}
        dataSource={list.data}
        pagination={{ pageSize: 10, hideOnSinglePage: true }}
        columns={[
          { title: "Since", render: (_, s) => <span title={time(s.created)}>{ago(s.created)}</span> },
          {
            title: "Last used",
            render: (_, s) => (s.last_used ? <span title={time(s.last_used)}>{ago(s.last_used)}</span> : ""),
          },
          { title: "Ends", render: (_, s) => time(s.expires) },
          {
            title: "",
            width: 110,
            render: (_, s) =>
              s.current ? (
                "this one"
              ) : (
                <Button size="small" loading={end.isPending && end.variables === s.id} onClick={() => end.mutate(s.id)}>
                  End
                </Button>
              ),
          },
        ]}
      />
    </section>
  );
}
