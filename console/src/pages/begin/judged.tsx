import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Alert, Button, Flex, Progress, Steps, Typography } from "antd";
import { useEffect, useRef, useState } from "react";
import { useNavigate } from "react-router";
import { api, ApiProblem, take, upload, type Batch } from "../../api/client";
import { changed, keys } from "../../api/keys";
import { count } from "../../shared/format";
import { Heading } from "../../shared/shell";
import { useFailed } from "../../shared/states";
import { Code } from "../../shared/tags";
import { held } from "./held";

interface Sent {
  file: File;
  share: number;
  batch?: Batch;
  error?: unknown;
}

/** The service is under review: its recording is judged, and this is how more comes. */
export function Judged({ draft, service }: { draft: number; service: string }) {
  const queries = useQueryClient();
  const navigate = useNavigate();
  const [sent, setSent] = useState<Sent[]>(() => (held.get(draft) ?? []).map((file) => ({ file, share: 0 })));
  const begun = useRef(false);
  useEffect(() => {
    if (begun.current) return;
    begun.current = true;
    const send = async () => {
      for (const { file } of sent) {
        const change = (c: Partial<Sent>) => setSent((all) => all.map((s) => (s.file === file ? { ...s, ...c } : s)));
        try {
          const batch = await upload(service, {}, file, (share) => change({ share }));
          change({ batch, share: 1 });
        } catch (error) {
          change({ error });
        }
        void changed(queries, "captures");
      }
      held.delete(draft);
    };
    void send();
  });
  const found = sent.reduce((n, s) => n + (s.batch?.findings ?? 0), 0);
  const judged = sent.filter((s) => s.batch);
  return (
    <>
      <Heading title={`New service: ${service}`}>{`New service: ${service}`}</Heading>
      <Typography.Paragraph type="secondary">Its contract is in force.</Typography.Paragraph>
      <Steps
        size="small"
        className="below-16"
        current={3}
        items={[{ title: "Questions" }, { title: "Classes" }, { title: "Contract" }, { title: "Findings" }]}
      />
      <div className="stack">
        <section className="sheet" aria-label="Findings" aria-live="polite">
          {sent.length === 0 && (
            <Alert
              type="info"
              showIcon
              title="Now send a recording: it is judged by this contract"
              action={<Button onClick={() => navigate("/captures")}>Send one</Button>}
            />
          )}
          {sent.map((s) => (
            <OneSent key={s.file.name} sent={s} />
          ))}
          {judged.length > 0 && (
            <Button
              type="primary"
              className="above-8"
              onClick={() => navigate(`/findings?service=${encodeURIComponent(service)}`)}
            >
              {found ? `See ${count(found, "finding")}` : "See that there are no findings"}
            </Button>
          )}
        </section>
        <More service={service} />
      </div>
    </>
  );
}

function OneSent({ sent: { file, share, batch, error } }: { sent: Sent }) {
  if (error instanceof ApiProblem && error.status === 415) return null; // a description: it was for the draft
  if (error) {
    return (
      <Alert
        role="alert"
        type="error"
        showIcon
        className="below-8"
        title={`${file.name} was not taken in`}
        description={error instanceof ApiProblem ? `${error.message}. ${error.next ?? ""}` : String(error)}
      />
    );
  }
  if (!batch) {
    return (
      <Flex gap={8} align="center" className="below-8">
        <span>{file.name}</span>
        <Progress percent={Math.round(share * 100)} size="small" aria-label={`Sending ${file.name}`} />
        {share === 1 && <Typography.Text type="secondary">judging…</Typography.Text>}
      </Flex>
    );
  }
  return (
    <Alert
      className="below-8"
      type={batch.findings ? "warning" : "success"}
      showIcon
      title={`${file.name}: ${count(batch.captures, "capture")}, ${batch.judged} judged, ${batch.skipped} skipped: ${count(batch.findings, "finding")}`}
    />
  );
}

/** How captures come by themselves, and the catalogue stays true: commands with address and token filled in. */
function More({ service }: { service: string }) {
  const queries = useQueryClient();
  const failed = useFailed();
  const make = useMutation({
    mutationFn: () =>
      take(
        api.POST("/api/v1/tokens", { body: { name: `recorder of ${service}`, scope: "record", service, days: 90 } }),
      ),
    onSuccess: () => queries.invalidateQueries({ queryKey: keys.tokens() }),
    onError: failed,
  });
  const url = `INKRET_URL=${window.location.origin}`;
  const token = `INKRET_TOKEN=${make.data?.secret ?? "TOKEN"}`;
  return (
    <section className="sheet" aria-label="What comes next">
      <Typography.Title level={2}>What comes next</Typography.Title>
      <Flex vertical gap={8} align="start">
        <Typography.Text>
          Record live traffic: the recorder stands before the API and sends what it captures here.
        </Typography.Text>
        <Code copyable>{`${url} ${token} inkret record --upstream http://127.0.0.1:8080 --service ${service}`}</Code>
        <Typography.Text>Judge every build in a pipeline, and send the result here:</Typography.Text>
        <Code copyable>{`${url} ${token} inkret result send check.json --line main`}</Code>
        <Typography.Text>Compare the catalogue with the database that holds it:</Typography.Text>
        <Code copyable>{`${url} ${token} inkret entity read ${service} postgres://reader@db.internal/harbour`}</Code>
        {make.data ? (
          <Typography.Text type="secondary">
            The token is in these commands. It is shown this once, may send to {service} alone, and lives 90 days.
          </Typography.Text>
        ) : (
          <Button loading={make.isPending} onClick={() => make.mutate()}>
            Make a token for these commands
          </Button>
        )}
      </Flex>
    </section>
  );
}
