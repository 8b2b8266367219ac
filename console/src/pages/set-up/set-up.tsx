import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Alert, Button, Card, Form, Input, Typography } from "antd";
import { useEffect, useState } from "react";
import { useNavigate } from "react-router";
import { api, ApiProblem, take } from "../../api/client";

const shortest = 12;

/** Where a one-time link leads: name and password are set, and one is signed in. */
export default function SetUp() {
  const queries = useQueryClient();
  const navigate = useNavigate();
  const [code] = useState(() => window.location.hash.slice(1));
  useEffect(() => {
    document.title = "Set up · Inkret";
    window.history.replaceState(null, "", "/set-up"); // the code stays out of the history
  }, []);
  const setUp = useMutation({
    mutationFn: (body: { name: string; email?: string; password: string }) => take(api.POST("/api/v1/setup", { body: { ...body, code } })),
    onSuccess: (person) => {
      queries.setQueryData(["session"], person);
      navigate("/", { replace: true });
    },
  });
  return (
    <main className="gate">
      <Card>
        <Typography.Title level={1} style={{ fontSize: 22 }}>
          Set yourself up
        </Typography.Title>
        {!code && <Alert type="warning" showIcon title="This address lacks its one-time code. Open the link as it was given." style={{ marginBottom: 16 }} />}
        <Form layout="vertical" requiredMark={false} onFinish={setUp.mutate} disabled={!code}>
          <Form.Item label="Name" name="name" rules={[{ required: true, message: "Others see this beside what you do" }]}>
            <Input autoComplete="name" autoFocus />
          </Form.Item>
          <Form.Item label="E-mail address" name="email" extra="Needed if you are the first; if you were invited, leave it empty.">
            <Input autoComplete="username" inputMode="email" />
          </Form.Item>
          <Form.Item
            label="Password"
            name="password"
            extra={`At least ${shortest} characters; a sentence is good.`}
            rules={[{ required: true, min: shortest, message: `At least ${shortest} characters` }]}
          >
            <Input.Password autoComplete="new-password" />
          </Form.Item>
          {setUp.error && (
            <Form.Item>
              <Alert
                role="alert"
                type="error"
                showIcon
                title={setUp.error instanceof ApiProblem ? `${setUp.error.message}. ${setUp.error.next ?? ""}` : "The service cannot be reached; try again."}
              />
            </Form.Item>
          )}
          <Button type="primary" htmlType="submit" block loading={setUp.isPending}>
            Set up and sign in
          </Button>
        </Form>
      </Card>
    </main>
  );
}
