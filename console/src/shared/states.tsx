import { App, Button, Empty as AntdEmpty, Flex, Result, Spin, Typography } from "antd";
import { useCallback, type ReactNode } from "react";
import { Link } from "react-router";
import { ApiProblem } from "../api/client";

// The states of a view besides the one with content.

export function Loading({ what }: { what: string }) {
  return (
    <Flex justify="center" role="status" aria-live="polite" className="padding-48">
      <Spin aria-label={`Loading ${what}`} /> <Typography.Text type="secondary">&nbsp; Loading {what}…</Typography.Text>
    </Flex>
  );
}

export function Failed({ error, again }: { error: unknown; again?: () => void }) {
  const problem = error instanceof ApiProblem ? error : undefined;
  return (
    <div role="alert">
      <Result
        status={problem?.status === 404 ? "404" : "warning"}
        title={problem?.status === 404 ? "Not found" : "This did not work"}
        subTitle={
          <>
            {problem?.message ?? "The service cannot be reached."} {problem?.next}
          </>
        }
        extra={[
          again && (
            <Button key="again" onClick={again}>
              Try again
            </Button>
          ),
          <Link key="home" to="/">
            Go to Home
          </Link>,
        ]}
      />
    </div>
  );
}

export function NotFound({ what }: { what: string }) {
  return <Failed error={new ApiProblem(404, `There is no such ${what}.`)} />;
}

/** An empty state: there is nothing to show, and this is how to change that. */
export function Empty({ title, children }: { title: string; children?: ReactNode }) {
  return (
    <AntdEmpty image={AntdEmpty.PRESENTED_IMAGE_SIMPLE} description={<Typography.Text strong>{title}</Typography.Text>}>
      {children}
    </AntdEmpty>
  );
}

/** What to do when a request failed. */
export function useFailed() {
  const { notification } = App.useApp();
  return useCallback(
    (e: Error) => {
      notification.error({
        title: e.message,
        description: e instanceof ApiProblem ? e.next : "The service cannot be reached; nothing was changed.",
      });
    },
    [notification],
  );
}
