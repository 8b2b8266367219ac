import { InboxOutlined } from "@ant-design/icons";
import { useMutation } from "@tanstack/react-query";
import { Alert, Button, Flex, Input, Table, Tag, Typography, Upload } from "antd";
import { useState } from "react";
import { api, take, type Reading, type ReadingResult } from "../../api/client";
import { count } from "../../shared/format";
import { useRevisionMade } from "../../shared/revisions";
import { useMay } from "../../shared/session";
import { Failed } from "../../shared/states";
import { Code } from "../../shared/tags";

const longest = 20_000_000;

/** Text of a file, and what form of a description it is. */
async function readingOf(file: File): Promise<Reading> {
  const text = await file.text();
  const description =
    /^\s*\{/.test(text) || /(^|\n)openapi:/.test(text) || text.includes("$schema") || text.includes("$defs");
  return { source: file.name, form: description ? "description" : "sql", text };
}

/** Compares what is stored with the catalogue, and adopts what is selected. */
export function ReadPanel({ service }: { service: string }) {
  const may = useMay("reviewer", service);
  const { made, failed } = useRevisionMade();
  const [reading, setReading] = useState<Reading>();
  const [taken, setTaken] = useState<string[]>([]);
  const [reason, setReason] = useState("");
  const look = useMutation({
    mutationFn: (body: Reading) =>
      take(api.POST("/api/v1/services/{service}/readings", { params: { path: { service } }, body })),
    onSuccess: (found: ReadingResult) =>
      setTaken(found.differences.filter((d) => !d.kind.startsWith("gone-")).map((d) => d.id)),
  });
  const save = useMutation({
    mutationFn: () =>
      take(
        api.PUT("/api/v1/services/{service}/readings", {
          params: { path: { service } },
          body: { ...reading!, take: taken, reason: reason || undefined },
        }),
      ),
    onSuccess: (r) => {
      made(r);
      look.reset();
      setReading(undefined);
      setReason("");
    },
    onError: failed,
  });
  const begin = (r: Reading) => {
    setReading(r);
    look.mutate(r);
  };
  const command = `inkret entity read ${service} postgres://USER@HOST/DATABASE --take-over`;
  return (
    <div className="stack">
      <div className="split even">
        <Upload.Dragger
          accept=".sql,.json,.yaml,.yml,.ddl,.txt"
          maxCount={1}
          showUploadList={false}
          beforeUpload={(file) => {
            if (file.size > longest)
              failed(new Error(`${file.name} is larger than 20 MB; read it with the command line`));
            else void readingOf(file).then(begin, failed);
            return false;
          }}
        >
          <p className="ant-upload-drag-icon">
            <InboxOutlined aria-hidden />
          </p>
          <p>Drop a file here, or choose one</p>
          <Typography.Text type="secondary">
            SQL as dump tools write it, OpenAPI 3.0 or 3.1, or JSON Schema. It is compared first; nothing changes yet.
          </Typography.Text>
        </Upload.Dragger>
        <section className="sheet">
          <Typography.Title level={2}>A live database</Typography.Title>
          <Typography.Paragraph>
            PostgreSQL and SQLite are read by the command line where you run it, so that neither address nor password of
            the database comes here:
          </Typography.Paragraph>
          <Code copyable>{command}</Code>
          <Typography.Title level={2} className="above-16px">
            Recorded traffic
          </Typography.Title>
          <Typography.Paragraph>
            Objects that recur under the same members become entities, nested ones relations.
          </Typography.Paragraph>
          <Button
            onClick={() => begin({ source: "recorded traffic", form: "traffic" })}
            loading={look.isPending && reading?.form === "traffic"}
          >
            Look at what was recorded
          </Button>
        </section>
      </div>
      {look.error && <Failed error={look.error} again={() => reading && look.mutate(reading)} />}
      {look.data && reading && (
        <section aria-label="Differences">
          {look.data.notes.map((n) => (
            <Alert key={n} type="info" showIcon title={n} className="below-8" />
          ))}
          {look.data.differences.length === 0 ? (
            <Alert
              type="success"
              showIcon
              title={`${count(look.data.entities, "entity", "entities")} read from ${reading.source}; the catalogue has them all as they are.`}
            />
          ) : (
            <>
              <Flex justify="space-between" align="center" gap={8} wrap className="below-8">
                <Typography.Text>
                  {count(look.data.entities, "entity", "entities")} read from <strong>{reading.source}</strong>,{" "}
                  {count(look.data.differences.length, "difference")}. New fields have no class until somebody gives
                  them one.
                </Typography.Text>
                {may && (
                  <Flex gap={8}>
                    <Input
                      aria-label="Reason"
                      placeholder="Reason (optional)"
                      value={reason}
                      onChange={(e) => setReason(e.target.value)}
                      className="wide-220"
                    />
                    <Button
                      type="primary"
                      disabled={!taken.length}
                      loading={save.isPending}
                      onClick={() => save.mutate()}
                    >
                      Take {taken.length} over
                    </Button>
                  </Flex>
                )}
              </Flex>
              <Table
                rowKey="id"
                size="small"
                aria-label="Differences"
                dataSource={look.data.differences}
                rowSelection={{
                  selectedRowKeys: taken,
                  onChange: (keys) => setTaken(keys as string[]),
                  getCheckboxProps: (d) => ({ "aria-label": `Take over ${d.id}` }),
                }}
                pagination={{ pageSize: 100, hideOnSinglePage: true, showSizeChanger: false }}
                columns={[
                  {
                    title: "Difference",
                    width: 150,
                    render: (_, d) => (
                      <Tag
                        color={d.kind.startsWith("gone") ? "error" : d.kind.startsWith("new") ? "warning" : undefined}
                        variant="outlined"
                      >
                        {d.kind.startsWith("gone") ? "− " : d.kind.startsWith("new") ? "+ " : "~ "}
                        {d.kind.replace("-", " ")}
                      </Tag>
                    ),
                  },
                  { title: "What", render: (_, d) => <Code>{d.name ? `${d.entity}.${d.name}` : d.entity}</Code> },
                  { title: "In the catalogue", dataIndex: "was" },
                  {
                    title: "As read",
                    render: (_, d) => (
                      <>
                        {d.is}
                        {d.sure !== undefined && <Typography.Text type="secondary"> {d.sure}% sure</Typography.Text>}
                      </>
                    ),
                  },
                ]}
              />
            </>
          )}
        </section>
      )}
    </div>
  );
}
