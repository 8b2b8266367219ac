import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { App, Button, Flex, Radio, Typography } from "antd";
import { api, take, type Mailed } from "../../api/client";
import { Failed, useFailed } from "../../shared/states";
import { keys } from "../../api/keys";

/** When notices are mailed. */
export function Mail() {
  const queries = useQueryClient();
  const failed = useFailed();
  const { message } = App.useApp();
  const stands = useQuery({ queryKey: keys.mailing(), queryFn: () => take(api.GET("/api/v1/session/mail")) });
  const set = useMutation({
    mutationFn: (when: Mailed) => take(api.PUT("/api/v1/session/mail", { body: { when } })),
    onSuccess: () => {
      void queries.invalidateQueries({ queryKey: keys.mailing() });
      void message.success("Kept");
    },
    onError: failed,
  });
  const test = useMutation({
    mutationFn: () => take(api.POST("/api/v1/session/mail/test")),
    onSuccess: () => void message.success("A test is on its way to you"),
    onError: failed,
  });
  if (stands.error) return <Failed error={stands.error} again={() => stands.refetch()} />;
  const m = stands.data;
  return (
    <section className="sheet" aria-label="Mail">
      <Typography.Title level={2}>Mail</Typography.Title>
      <Typography.Paragraph>
        What you are told, by mail too. A mail has links, and nothing of values or comments.
      </Typography.Paragraph>
      <Flex gap={12} wrap align="center">
        <Radio.Group
          aria-label="When you are mailed"
          value={m?.when}
          disabled={!m || set.isPending}
          onChange={(e) => set.mutate(e.target.value as Mailed)}
          options={[
            { value: "at-once", label: "at once" },
            { value: "daily", label: "once a day, with what waits for you" },
            { value: "never", label: "never" },
          ]}
        />
        {m?.server && (
          <Button size="small" loading={test.isPending} onClick={() => test.mutate()}>
            Send me a test
          </Button>
        )}
      </Flex>
      {m && (
        <Typography.Paragraph type="secondary" className="margin-8px-0-0">
          {!m.server
            ? "This service has no mail server: nothing is mailed."
            : m.when === "daily"
              ? `A day's mail is sent from ${m.digest_hour}:00 UTC on, where there is anything to say.`
              : " "}
        </Typography.Paragraph>
      )}
    </section>
  );
}
