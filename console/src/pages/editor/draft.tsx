import { useMutation } from "@tanstack/react-query";
import { Alert, Button, Checkbox, Flex, Select, Typography } from "antd";
import { useEffect, useRef, useState } from "react";
import { api, take, type ContractFile, type Drafted, type EditableContract } from "../../api/client";
import { Code } from "../../shared/tags";

type Of = {
  from: "captures" | "entity" | "endpoint" | "description";
  entity?: string;
  many?: boolean;
  like?: string;
  source?: string;
  text?: string;
};

/** Ways to a first contract of an endpoint that has none. */
export function DraftPanel({
  service,
  endpoint,
  files,
  contract,
  onDraft,
  begin,
}: {
  service: string;
  endpoint: string;
  files: ContractFile[];
  contract: EditableContract;
  onDraft: (d: Drafted) => void;
  begin?: string;
}) {
  const [entity, setEntity] = useState<string>();
  const [many, setMany] = useState(false);
  const [like, setLike] = useState<string>();
  const [name, setName] = useState(parameterised(endpoint));
  const draft = useMutation({
    mutationFn: (of: Of) =>
      take(
        api.POST("/api/v1/services/{service}/contracts/drafts", {
          params: { path: { service } },
          body: { ...of, endpoint: name, files },
        }),
      ),
    onSuccess: onDraft,
  });
  const begun = useRef(false);
  useEffect(() => {
    if (begin === "captures" && !begun.current) {
      begun.current = true;
      draft.mutate({ from: "captures" });
    }
  });
  const endpoints = files.flatMap((f) =>
    [...f.text.matchAll(/endpoint:\s*["']?([A-Z]+ \/[^"'\n#,}]*(?:\{[^}]*\}[^"'\n#,}]*)*)/g)].map((m) => m[1]!.trim()),
  );
  return (
    <div className="stack">
      <Alert
        type="info"
        showIcon
        title="This endpoint has no contract. Until it has one, its bodies are only swept for what is sensitive."
      />
      {draft.error && <Alert type="error" showIcon title={draft.error.message} />}
      <label>
        Written as
        <br />
        <input
          className="plain-input code"
          value={name}
          onChange={(e) => setName(e.target.value)}
          aria-label="The endpoint as the contract writes it"
        />
      </label>
      <div>
        <Typography.Title level={2}>From what goes out today</Typography.Title>
        <Typography.Paragraph type="secondary">
          Grants what its captures show; what is sensitive or has no class is left out and asked about.
        </Typography.Paragraph>
        <Button
          type="primary"
          loading={draft.isPending && draft.variables?.from === "captures"}
          onClick={() => draft.mutate({ from: "captures" })}
        >
          Draft from its captures
        </Button>
      </div>
      <div>
        <Typography.Title level={2}>From an entity</Typography.Title>
        <Flex gap={8} wrap align="center">
          <Select
            showSearch
            aria-label="Entity"
            placeholder="Entity"
            className="wide-200"
            value={entity}
            onChange={setEntity}
            options={contract.entities.map((e) => ({ value: e.name, label: e.name }))}
          />
          <Checkbox checked={many} onChange={(e) => setMany(e.target.checked)}>
            a list of them
          </Checkbox>
          <Button
            disabled={!entity}
            loading={draft.isPending && draft.variables?.from === "entity"}
            onClick={() => draft.mutate({ from: "entity", entity, many })}
          >
            Draft
          </Button>
        </Flex>
      </div>
      <div>
        <Typography.Title level={2}>As another endpoint</Typography.Title>
        <Flex gap={8} wrap>
          <Select
            showSearch
            aria-label="Another endpoint"
            placeholder="Endpoint"
            className="wide-340"
            value={like}
            onChange={setLike}
            options={endpoints.map((e) => ({ value: e, label: e }))}
          />
          <Button
            disabled={!like}
            loading={draft.isPending && draft.variables?.from === "endpoint"}
            onClick={() => draft.mutate({ from: "endpoint", like })}
          >
            Draft
          </Button>
        </Flex>
      </div>
      <div>
        <Typography.Title level={2}>From a description</Typography.Title>
        <Typography.Paragraph type="secondary">An OpenAPI document of the API.</Typography.Paragraph>
        <input
          type="file"
          accept=".json,.yaml,.yml"
          aria-label="OpenAPI document"
          onChange={(e) => {
            const file = e.target.files?.[0];
            if (file) void file.text().then((text) => draft.mutate({ from: "description", source: file.name, text }));
          }}
        />
      </div>
      <Typography.Text type="secondary">
        Or in the text, or offline: <Code copyable>inkret draft --captures FILE -o contract.yaml</Code>
      </Typography.Text>
    </div>
  );
}

/** Names the parameters of an endpoint that was only seen: GET /v1/boats/{} is GET /v1/boats/{boat_id}. */
function parameterised(endpoint: string): string {
  let before = "";
  return endpoint
    .split("/")
    .map((part) => {
      if (part !== "{}") {
        before = part;
        return part;
      }
      const word = before.replace(/[^A-Za-z0-9_]/g, "_").replace(/s$/, "");
      return `{${/^[A-Za-z_]/.test(word) ? `${word}_id` : "id"}}`;
    })
    .join("/");
}
