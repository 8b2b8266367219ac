import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Alert, Button, Card, Checkbox, Form, Input, Typography } from "antd";
import { useEffect, useState } from "react";
import { useNavigate } from "react-router";
import { api, ApiProblem, take } from "../../api/client";
import { count } from "../../shared/format";
import { signedIn } from "../../shared/session";
import { keys } from "../../api/keys";

const shortest = 12;

interface Filled {
  name: string;
  email?: string;
  password: string;
  factor?: string;
  end_tokens?: boolean;
}

const said = (e: Error) =>
  e instanceof ApiProblem ? `${e.message}. ${e.next ?? ""}` : "The service cannot be reached; try again.";

/** The target of a one-time link: set name and password, and be signed in. */
export default function SetUp() {
  const queries = useQueryClient();
  const navigate = useNavigate();
  const [code] = useState(() => window.location.hash.slice(1));
  useEffect(() => {
    document.title = "Set up · Inkret";
    window.history.replaceState(null, "", "/set-up"); // the code stays out of the history
  }, []);
  const link = useQuery({
    queryKey: keys.link(),
    queryFn: () => take(api.POST("/api/v1/setup/link", { body: { code } })),
    enabled: !!code,
    staleTime: Infinity,
    gcTime: 0,
  });
  const setUp = useMutation({
    mutationFn: (body: Filled) =>
      take(api.POST("/api/v1/setup", { body: { ...body, email: body.email || undefined, code } })),
    onSuccess: (person) => {
      signedIn(queries, person);
      navigate("/", { replace: true });
    },
  });
  const of = link.data;
  return (
    <main className="gate">
      <Card>
        <Typography.Title level={1} className="size-22">
          {of?.reset ? "Set a new password" : "Set yourself up"}
        </Typography.Title>
        {!code && (
          <Alert
            type="warning"
            showIcon
            title="This address lacks its one-time code. Open the link as it was given."
            className="below-16"
          />
        )}
        {link.error && <Alert role="alert" type="error" showIcon title={said(link.error)} className="below-16" />}
        {of?.email && (
          <Typography.Paragraph>
            For {of.email}.{of.reset && " All your sessions end."}
          </Typography.Paragraph>
        )}
        <Form layout="vertical" requiredMark={false} onFinish={setUp.mutate} disabled={!of}>
          <Form.Item
            label="Name"
            name="name"
            rules={[{ required: true, message: "Others see this beside what you do" }]}
          >
            <Input autoComplete="name" autoFocus />
          </Form.Item>
          {(!of || !of.email) && (
            <Form.Item label="E-mail address" name="email" rules={[{ required: true, message: "You sign in with it" }]}>
              <Input autoComplete="username" inputMode="email" />
            </Form.Item>
          )}
          <Form.Item
            label="Password"
            name="password"
            extra={`At least ${shortest} characters; a sentence is good.`}
            rules={[{ required: true, min: shortest, message: `At least ${shortest} characters` }]}
          >
            <Input.Password autoComplete="new-password" />
          </Form.Item>
          {of?.factor && (
            <Form.Item
              label="Code of your second factor, or a recovery code"
              name="factor"
              rules={[{ required: true, message: "Your second factor stays" }]}
            >
              <Input autoComplete="one-time-code" />
            </Form.Item>
          )}
          {of && of.tokens > 0 && (
            <Form.Item
              name="end_tokens"
              valuePropName="checked"
              extra="Do this if somebody else may have them. Programs that use them need new ones."
            >
              <Checkbox>Revoke my {count(of.tokens, "token")} as well</Checkbox>
            </Form.Item>
          )}
          {setUp.error && (
            <Form.Item>
              <Alert role="alert" type="error" showIcon title={said(setUp.error)} />
            </Form.Item>
          )}
          <Button type="primary" htmlType="submit" block loading={setUp.isPending}>
            {of?.reset ? "Set the password and sign in" : "Set up and sign in"}
          </Button>
        </Form>
      </Card>
    </main>
  );
}
