import { InboxOutlined } from "@ant-design/icons";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Alert, Button, Flex, Input, Popconfirm, Progress, Select, Table, Typography, Upload } from "antd";
import { useState } from "react";
import { Link, useNavigate } from "react-router";
import { api, ApiProblem, beginDraft, take, type FirstDraftLine } from "../../api/client";
import { keys } from "../../api/keys";
import { ago, count, time } from "../../shared/format";
import { Heading } from "../../shared/shell";
import { useFailed } from "../../shared/states";
import { Code } from "../../shared/tags";
import { held } from "./held";

/** Brings a service under review: from files, from another service's contracts, or from nothing. */
export default function Begin() {
  const queries = useQueryClient();
  const navigate = useNavigate();
  const [name, setName] = useState("");
  const [like, setLike] = useState<string>();
  const [sending, setSending] = useState<{ files: string; share: number }>();
  const services = useQuery({ queryKey: keys.services(), queryFn: () => take(api.GET("/api/v1/services")) });
  const begin = useMutation({
    mutationFn: (from: { files: File[]; like?: string }) => {
      setSending({ files: from.files.map((f) => f.name).join(", "), share: 0 });
      return beginDraft({ service: name.trim(), like: from.like }, from.files, (share) =>
        setSending((s) => s && { ...s, share }),
      );
    },
    onSuccess: (draft, from) => {
      if (draft.recordings > 0) held.set(draft.id, from.files);
      queries.setQueryData(keys.draft(String(draft.id)), draft);
      void queries.invalidateQueries({ queryKey: keys.drafts() });
      navigate(`/new/${draft.id}`);
    },
    onSettled: () => setSending(undefined),
  });
  return (
    <>
      <Heading title="New service">Bring an API under review</Heading>
      <div className="stack">
        <section className="sheet" aria-label="From files">
          <Typography.Paragraph>
            A recording is enough: a first contract is drafted from what it shows, you answer what only a person can
            decide, and the recording is judged by the outcome.
          </Typography.Paragraph>
          <label>
            Its name
            <Input
              className="below-16"
              value={name}
              maxLength={100}
              placeholder="made of the files where it is left empty"
              onChange={(e) => setName(e.target.value)}
            />
          </label>
          <Upload.Dragger
            multiple
            showUploadList={false}
            className="beginning-upload"
            disabled={begin.isPending}
            beforeUpload={(file, all) => {
              if (file === all[0]) begin.mutate({ files: all });
              return false;
            }}
          >
            <p>
              <InboxOutlined aria-hidden className="size-24" />
            </p>
            <p>Drop recordings, an OpenAPI document, a GraphQL schema or SQL here, or press to choose files</p>
            <p className="faint">
              Recordings: HAR, HTTP messages as curl -i prints them, WARC, capture lines; also packed with gzip, zstd or
              zip
            </p>
          </Upload.Dragger>
          <div aria-live="polite">
            {sending?.files && (
              <Flex gap={8} align="center" className="above-8">
                <span>{sending.files}</span>
                <Progress
                  percent={Math.round(sending.share * 100)}
                  size="small"
                  aria-label={`Sending ${sending.files}`}
                />
                {sending.share === 1 && <Typography.Text type="secondary">drafting…</Typography.Text>}
              </Flex>
            )}
            {begin.error && (
              <Alert
                role="alert"
                className="above-8"
                type="error"
                showIcon
                title="No draft was made"
                description={
                  begin.error instanceof ApiProblem
                    ? `${begin.error.message}. ${begin.error.next ?? ""}`
                    : "The service cannot be reached; try again."
                }
              />
            )}
          </div>
          <Flex gap={8} className="above-8" wrap align="center">
            {!!services.data?.length && (
              <>
                <Select
                  aria-label="Another service"
                  placeholder="Another service"
                  className="least-180"
                  value={like}
                  onChange={setLike}
                  options={services.data.map((s) => ({ value: s.name, label: s.name }))}
                />
                <Button
                  disabled={!like || !name.trim() || begin.isPending}
                  onClick={() => begin.mutate({ files: [], like })}
                >
                  Take its contracts over
                </Button>
              </>
            )}
            <Button disabled={begin.isPending} onClick={() => begin.mutate({ files: [] })}>
              Begin with an empty contract
            </Button>
            {!!like && !name.trim() && <Typography.Text type="secondary">Name the new service first.</Typography.Text>}
          </Flex>
        </section>
        <Begun />
        <section className="sheet" aria-label="From the command line">
          <Typography.Title level={2}>From the command line</Typography.Title>
          <Flex vertical gap={4} align="start">
            <Code copyable>{`inkret sign-in ${window.location.origin}`}</Code>
            <Code copyable>inkret draft --captures recording.har -o contracts/api.yaml --ask</Code>
            <Code copyable>inkret contract apply contracts/</Code>
            <Code copyable>inkret capture upload recording.har</Code>
          </Flex>
        </section>
      </div>
    </>
  );
}

/** Drafts that somebody began and nobody has put in force. */
function Begun() {
  const queries = useQueryClient();
  const failed = useFailed();
  const list = useQuery({ queryKey: keys.drafts(), queryFn: () => take(api.GET("/api/v1/drafts")) });
  const drop = useMutation({
    mutationFn: (id: number) => take(api.DELETE("/api/v1/drafts/{draft_id}", { params: { path: { draft_id: id } } })),
    onSuccess: () => queries.invalidateQueries({ queryKey: keys.drafts() }),
    onError: failed,
  });
  if (!list.data?.length) return null;
  return (
    <section className="sheet" aria-label="Begun and not in force">
      <Typography.Title level={2}>Begun and not in force</Typography.Title>
      <Table<FirstDraftLine>
        size="small"
        rowKey="id"
        dataSource={list.data}
        pagination={{ pageSize: 10, hideOnSinglePage: true }}
        columns={[
          { title: "Service", render: (_, d) => <Link to={`/new/${d.id}`}>{d.service}</Link> },
          { title: "Drafted from", render: (_, d) => d.sources.join(", ") },
          { title: "Open", render: (_, d) => count(d.open, "question") },
          {
            title: "Last worked on",
            render: (_, d) => <span title={time(d.changed)}>{`${d.author}, ${ago(d.changed)}`}</span>,
          },
          {
            title: "",
            width: 100,
            render: (_, d) => (
              <Popconfirm
                title={`Drop the draft of ${d.service}?`}
                description="Its answers go with it."
                okText="Drop it"
                cancelText="Leave"
                onConfirm={() => drop.mutate(d.id)}
              >
                <Button size="small" aria-label={`Drop the draft of ${d.service}`}>
                  Drop…
                </Button>
              </Popconfirm>
            ),
          },
        ]}
      />
    </section>
  );
}
