import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { App, Button, Flex, Form, Input, Modal, Popconfirm, Select, Table, Tag, Typography } from "antd";
import { useState } from "react";
import { api, take, type Person } from "../../api/client";
import { count } from "../../shared/format";
import { usePeople } from "../../shared/people";
import { useMay, useSession } from "../../shared/session";
import { Heading } from "../../shared/shell";
import { Failed, useFailed } from "../../shared/states";
import { Code } from "../../shared/tags";
import { keys } from "../../api/keys";

export const roles: Person["role"][] = ["viewer", "reviewer", "lead", "administrator"];

/** Everybody with an account, with their roles, and those who were blocked. */
export default function People() {
  const people = usePeople();
  const session = useSession();
  const may = useMay("administrator");
  const queries = useQueryClient();
  const failed = useFailed();
  const { message } = App.useApp();
  const [inviting, setInviting] = useState(false);
  const [link, setLink] = useState<{ of: string; link: string }>();
  const change = useMutation({
    mutationFn: ({
      id,
      ...body
    }: {
      id: number;
      role?: Person["role"];
      active?: boolean;
      service_roles?: Person["service_roles"];
    }) => take(api.PATCH("/api/v1/people/{person_id}", { params: { path: { person_id: id } }, body })),
    onSuccess: (p) => {
      void queries.invalidateQueries({ queryKey: keys.people() });
      void message.success(`${p.name || p.email}: ${p.kept_out ? "may not come in" : p.role}`);
    },
    onError: failed,
  });
  const reset = useMutation({
    mutationFn: (id: number) =>
      take(api.POST("/api/v1/people/{person_id}/reset", { params: { path: { person_id: id } } })),
    onSuccess: (made) => setLink({ of: made.person.name || made.person.email, link: made.link }),
    onError: failed,
  });
  if (people.error) return <Failed error={people.error} again={() => people.refetch()} />;
  return (
    <>
      <Heading
        title="People"
        aside={
          may && (
            <Button type="primary" onClick={() => setInviting(true)}>
              Invite somebody…
            </Button>
          )
        }
      >
        {people.data ? count(people.data.length, "person", "people") : "People"}
      </Heading>
      <Table<Person>
        size="small"
        rowKey="id"
        aria-label="People"
        loading={people.isPending}
        dataSource={people.data}
        pagination={{ pageSize: 50, hideOnSinglePage: true }}
        columns={[
          {
            title: "Name",
            render: (_, p) => (
              <>
                {p.name || <Typography.Text type="secondary">invited, not here yet</Typography.Text>}{" "}
                {p.id === session.data?.id && <Typography.Text type="secondary">(you)</Typography.Text>}{" "}
                {p.kept_out && (
                  <Tag variant="outlined" color="error">
                    ✕ kept out
                  </Tag>
                )}
              </>
            ),
          },
          { title: "E-mail address", width: 250, render: (_, p) => <Code>{p.email}</Code> },
          {
            title: "Role",
            width: 160,
            render: (_, p) =>
              may ? (
                <Select
                  size="small"
                  aria-label={`Role of ${p.name || p.email}`}
                  className="wide-140"
                  value={p.role}
                  disabled={change.isPending}
                  onChange={(role) => change.mutate({ id: p.id, role })}
                  options={roles.map((r) => ({ value: r, label: r }))}
                />
              ) : (
                p.role
              ),
          },
          {
            title: "At services",
            width: 190,
            render: (_, p) =>
              p.role === "administrator" ? (
                <Typography.Text type="secondary">administrator everywhere</Typography.Text>
              ) : (
                <AtServices
                  person={p}
                  may={may}
                  change={(service_roles) => change.mutate({ id: p.id, service_roles })}
                />
              ),
          },
          {
            title: "Second factor",
            width: 112,
            render: (_, p) => (p.second_factor ? "✓ yes" : <Typography.Text type="secondary">− no</Typography.Text>),
          },
          {
            title: "",
            width: 236,
            render: (_, p) =>
              may && (
                <Flex gap={6}>
                  <Button
                    size="small"
                    loading={reset.isPending && reset.variables === p.id}
                    onClick={() => reset.mutate(p.id)}
                  >
                    {p.pending ? "New link…" : "Reset password…"}
                  </Button>
                  {p.id !== session.data?.id &&
                    (p.kept_out ? (
                      <Button size="small" onClick={() => change.mutate({ id: p.id, active: true })}>
                        Let in
                      </Button>
                    ) : (
                      <Popconfirm
                        title={`Keep ${p.name || p.email} out?`}
                        description="Their sessions and tokens end."
                        okText="Keep out"
                        cancelText="Leave"
                        onConfirm={() => change.mutate({ id: p.id, active: false })}
                      >
                        <Button size="small">Keep out…</Button>
                      </Popconfirm>
                    ))}
                </Flex>
              ),
          },
        ]}
      />
      {inviting && (
        <Invite
          close={(made) => {
            setInviting(false);
            if (made) setLink(made);
          }}
        />
      )}
      <Modal
        open={!!link}
        title={`A link for ${link?.of}`}
        onCancel={() => setLink(undefined)}
        footer={<Button onClick={() => setLink(undefined)}>Close</Button>}
      >
        <Typography.Paragraph>
          It works once, within three days, and is shown this once. Give it to nobody else.
        </Typography.Paragraph>
        {link && <Code copyable>{link.link}</Code>}
      </Modal>
    </>
  );
}

/** Roles at single services that differ from the general one. */
function AtServices({
  person,
  may,
  change,
}: {
  person: Person;
  may: boolean;
  change: (roles: NonNullable<Person["service_roles"]>) => void;
}) {
  const [adding, setAdding] = useState(false);
  const all = useQuery({
    queryKey: keys.services(),
    queryFn: () => take(api.GET("/api/v1/services")),
    enabled: adding,
  });
  const at = person.service_roles ?? [];
  const name = person.name || person.email;
  return (
    <Flex vertical gap={4} align="start">
      {at.map((r) => (
        <Tag
          key={r.service}
          variant="outlined"
          closable={may && { "aria-label": `Take ${r.role} at ${r.service} from ${name}` }}
          onClose={() => change([{ service: r.service }])}
        >
          {r.role} at {r.service}
        </Tag>
      ))}
      {at.length === 0 && !may && <Typography.Text type="secondary">as everywhere</Typography.Text>}
      {may && !adding && (
        <Button
          size="small"
          type="text"
          onClick={() => setAdding(true)}
          aria-label={`Another role at a service for ${name}`}
        >
          + at a service…
        </Button>
      )}
      {adding && (
        <Select
          size="small"
          autoFocus
          defaultOpen
          showSearch={{ optionFilterProp: "label" }}
          aria-label={`Role at a service of ${name}`}
          placeholder="role at a service"
          className="wide-180"
          loading={all.isPending}
          onBlur={() => setAdding(false)}
          onChange={(v: string) => {
            const [role, service = ""] = v.split(" at ");
            setAdding(false);
            change([{ service, role: role as Person["role"] }]);
          }}
          options={all.data?.flatMap((s) =>
            roles.slice(0, 3).map((role) => ({ value: `${role} at ${s.name}`, label: `${role} at ${s.name}` })),
          )}
        />
      )}
    </Flex>
  );
}

function Invite({ close }: { close: (made?: { of: string; link: string }) => void }) {
  const [form] = Form.useForm<{ email: string; role: Person["role"] }>();
  const queries = useQueryClient();
  const failed = useFailed();
  const invite = useMutation({
    mutationFn: (body: { email: string; role: Person["role"] }) => take(api.POST("/api/v1/people", { body })),
    onSuccess: (made) => {
      void queries.invalidateQueries({ queryKey: keys.people() });
      close({ of: made.person.email, link: made.link });
    },
    onError: failed,
  });
  return (
    <Modal
      open
      title="Invite somebody"
      okText="Invite"
      cancelText="Leave"
      onCancel={() => close()}
      onOk={() => form.submit()}
      confirmLoading={invite.isPending}
    >
      <Form
        form={form}
        layout="vertical"
        requiredMark={false}
        initialValues={{ role: "viewer" }}
        onFinish={invite.mutate}
      >
        <Form.Item
          label="E-mail address"
          name="email"
          rules={[{ required: true, type: "email", message: "An e-mail address is needed" }]}
        >
          <Input inputMode="email" autoFocus />
        </Form.Item>
        <Form.Item label="Role" name="role">
          <Select options={roles.map((r) => ({ value: r, label: r }))} />
        </Form.Item>
      </Form>
    </Modal>
  );
}
