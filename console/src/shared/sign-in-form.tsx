import { useMutation } from "@tanstack/react-query";
import { Alert, Button, Form, Input } from "antd";
import { useState } from "react";
import { api, ApiProblem, take, type Person } from "../api/client";

/** Asks for e-mail address and password, and for a code of who has a second factor. */
export function SignInForm({ email, done }: { email?: string; done: (person: Person) => void }) {
  const signIn = useMutation({
    mutationFn: (body: { email: string; password: string; code?: string }) =>
      take(api.POST("/api/v1/session", { body })),
    onSuccess: done,
  });
  // the code is asked for once the password was right
  const needed = signIn.error instanceof ApiProblem && signIn.error.type === "urn:inkret:problem:second-factor-needed";
  const [factor, setFactor] = useState(false);
  if (needed && !factor) setFactor(true);
  const first = !signIn.variables?.code;
  return (
    <Form layout="vertical" requiredMark={false} initialValues={{ email }} onFinish={signIn.mutate}>
      <Form.Item
        label="E-mail address"
        name="email"
        rules={[{ required: true, message: "Your e-mail address is needed" }]}
      >
        <Input autoComplete="username" autoFocus={!email} inputMode="email" />
      </Form.Item>
      <Form.Item label="Password" name="password" rules={[{ required: true, message: "Your password is needed" }]}>
        <Input.Password autoComplete="current-password" autoFocus={!!email} />
      </Form.Item>
      {factor && (
        <Form.Item label="Code of your second factor, or a recovery code" name="code">
          <Input autoComplete="one-time-code" autoFocus />
        </Form.Item>
      )}
      {signIn.error && !(factor && first) && (
        <Form.Item>
          <Alert
            role="alert"
            type="error"
            showIcon
            title={
              signIn.error instanceof ApiProblem ? signIn.error.message : "The service cannot be reached; try again."
            }
          />
        </Form.Item>
      )}
      <Button type="primary" htmlType="submit" block loading={signIn.isPending}>
        Sign in
      </Button>
    </Form>
  );
}
