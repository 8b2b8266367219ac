import { useQuery } from "@tanstack/react-query";
import { Button, Flex, Segmented, Select, Typography } from "antd";
import { useState } from "react";
import { api, take, type ContractFile } from "../../api/client";
import { useAddress } from "../../shared/address";
import { Failed, Loading } from "../../shared/states";
import { Code } from "../../shared/tags";
import { keys } from "../../api/keys";

const forms = [
  { value: "openapi", label: "OpenAPI 3.1" },
  { value: "json-schema", label: "JSON Schema" },
  { value: "typescript", label: "TypeScript" },
  { value: "contract", label: "Contract files" },
] as const;
type Form = (typeof forms)[number]["value"];

async function load(service: string, form: Form): Promise<ContractFile[]> {
  if (form === "contract")
    return (await take(api.GET("/api/v1/services/{service}/contracts", { params: { path: { service } } }))).files;
  return (
    await take(api.GET("/api/v1/services/{service}/contracts/forms/{form}", { params: { path: { service, form } } }))
  ).files;
}

function download(f: ContractFile) {
  const url = URL.createObjectURL(new Blob([f.text], { type: "application/octet-stream" }));
  const a = document.createElement("a");
  a.href = url;
  a.download = f.name;
  a.click();
  URL.revokeObjectURL(url);
}

/** The contracts in the forms that other programs read. */
export function ExportPanel({ service }: { service: string }) {
  const { get, set } = useAddress();
  const form = (forms.some((f) => f.value === get("form")) ? get("form") : "openapi") as Form;
  const files = useQuery({ queryKey: keys.export(service, form), queryFn: () => load(service, form) });
  const [name, setName] = useState("");
  const file = files.data?.find((f) => f.name === name) ?? files.data?.[0];
  return (
    <div className="stack">
      <Flex gap={8} wrap align="center">
        <Segmented value={form} onChange={(v) => set({ form: v })} options={[...forms]} />
        {files.data && files.data.length > 1 && (
          <Select
            showSearch
            aria-label="File"
            className="least-380"
            value={file?.name}
            onChange={setName}
            options={files.data.map((f) => ({ value: f.name, label: f.name }))}
          />
        )}
        {file && <Button onClick={() => download(file)}>Save {file.name}</Button>}
      </Flex>
      <Code copyable>{`inkret contract export ${service} --as ${form} --output .`}</Code>
      {files.isPending && <Loading what="the file" />}
      {files.error && <Failed error={files.error} again={() => files.refetch()} />}
      {file && (
        <section className="sheet" aria-label={file.name}>
          <pre className="code export">{file.text}</pre>
        </section>
      )}
      {files.data?.length === 0 && <Typography.Text>The contracts declare no response yet.</Typography.Text>}
    </div>
  );
}
