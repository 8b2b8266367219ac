import { useQuery } from "@tanstack/react-query";
import { Button, Drawer, Flex, Select, Table, Tag, Typography } from "antd";
import { useState } from "react";
import { Link, useParams } from "react-router";
import { api, take } from "../../api/client";
import { useAddress } from "../../shared/address";
import { Ask } from "../../shared/ask";
import { ago, count } from "../../shared/format";
import { Heading } from "../../shared/shell";
import { Empty, Failed, Loading } from "../../shared/states";
import { Code, SeverityMark } from "../../shared/tags";
import { Queue } from "../entities/queue";
import { keys } from "../../api/keys";

/** An entity's fields with their classes, its relations, and where each field goes. */
export default function EntityPage() {
  const { service = "", name = "" } = useParams();
  const { get, set } = useAddress();
  const [asking, setAsking] = useState(false);
  const list = useQuery({
    queryKey: keys.entities(service),
    queryFn: () => take(api.GET("/api/v1/services/{service}/entities", { params: { path: { service } } })),
  });
  const fields = useQuery({
    queryKey: keys.fieldNames(service, name),
    queryFn: () =>
      take(
        api.GET("/api/v1/services/{service}/fields", {
          params: { path: { service }, query: { entity: name, size: 500 } },
        }),
      ),
  });
  if (list.isPending) return <Loading what="the entity" />;
  if (list.error) return <Failed error={list.error} again={() => list.refetch()} />;
  const entity = list.data.find((e) => e.name === name);
  if (!entity)
    return (
      <Empty title={`The catalogue of ${service} has no entity ${name}`}>
        <Link to={`/entities?service=${encodeURIComponent(service)}`}>To the catalogue</Link>
      </Empty>
    );
  const link = (e: string) => `/entities/${encodeURIComponent(service)}/${encodeURIComponent(e)}`;
  return (
    <>
      <Heading
        title={name}
        aside={
          <Flex gap={12} align="center" wrap>
            {entity.stored_as && (
              <span>
                stored as <Code>{entity.stored_as}</Code>
              </span>
            )}
            <Link to={`/findings?entity=${encodeURIComponent(name)}`}>{count(entity.open, "open finding")}</Link>
            <Link to={`/exposure?service=${encodeURIComponent(service)}&entity=${encodeURIComponent(name)}`}>
              exposure map
            </Link>
            <Select
              showSearch
              allowClear
              aria-label="Where does this field go?"
              placeholder="Where does this field go?"
              className="wide-230"
              value={get("field") || undefined}
              onChange={(v?: string) => set({ field: v ?? "" })}
              options={fields.data?.items.map((f) => ({ value: f.name, label: f.name }))}
            />
          </Flex>
        }
      >
        {name}
      </Heading>
      {entity.relations.length > 0 && (
        <Flex gap={8} wrap className="below-12" aria-label="Relations">
          {entity.relations.map((r) => (
            <Tag key={r.name} variant="outlined">
              {r.name} → <Link to={link(r.entity)}>{r.entity}</Link>
              {r.many ? " (many)" : ""}
            </Tag>
          ))}
        </Flex>
      )}
      <Queue service={service} entity={name} />
      <Drawer
        title={
          <>
            Where does <Code>{`${name}.${get("field")}`}</Code> go?
          </>
        }
        open={get("field") !== ""}
        onClose={() => set({ field: "" })}
        size={860}
      >
        {get("field") && (
          <Button className="below-12" onClick={() => setAsking(true)}>
            Ask for this field…
          </Button>
        )}
        {asking && <Ask known={{ service, entity: name, field: get("field") }} close={() => setAsking(false)} />}
        {get("field") && <Flows service={service} entity={name} field={get("field")} />}
      </Drawer>
    </>
  );
}

function Flows({ service, entity, field }: { service: string; entity: string; field: string }) {
  const flows = useQuery({
    queryKey: keys.flows(service, entity, field),
    queryFn: () =>
      take(api.GET("/api/v1/services/{service}/flows", { params: { path: { service }, query: { entity, field } } })),
  });
  if (flows.isPending) return <Loading what="its ways" />;
  if (flows.error) return <Failed error={flows.error} again={() => flows.refetch()} />;
  if (flows.data.length === 0)
    return <Empty title="It goes nowhere">No contract grants it, and no capture has shown it.</Empty>;
  return (
    <>
      <Table
        rowKey={(f) => `${f.state}${f.endpoint}${f.audience}${f.status}${f.path}`}
        size="small"
        aria-label="Ways of the field"
        dataSource={flows.data}
        pagination={{ pageSize: 50, hideOnSinglePage: true, showSizeChanger: false }}
        columns={[
          {
            title: "How",
            width: 150,
            render: (_, f) =>
              f.state === "leaking" ? (
                <Flex vertical>
                  <Tag color="error" variant="outlined">
                    ‼ leaking
                  </Tag>
                  {f.severity && <SeverityMark severity={f.severity} />}
                </Flex>
              ) : (
                <Tag variant="outlined">
                  {f.state === "granted" ? "✓ granted" : "◌ never seen"}
                  {f.derived ? ", derived" : ""}
                  {f.own ? ", own records only" : ""}
                </Tag>
              ),
          },
          { title: "Endpoint", render: (_, f) => <Link to={`/endpoints/${f.endpoint_id}`}>{f.endpoint}</Link> },
          { title: "Audience", dataIndex: "audience" },
          { title: "As", render: (_, f) => <Code>{f.path}</Code> },
          {
            title: "Why",
            render: (_, f) =>
              f.finding ? (
                <Link to={`/findings/${f.finding}`}>the finding</Link>
              ) : (
                <>
                  {[f.reason, f.needed_by && `needed by ${f.needed_by.join(", ")}`].filter(Boolean).join("; ") || "–"}
                  {f.last_seen && (
                    <div>
                      <Typography.Text type="secondary">seen {ago(f.last_seen)}</Typography.Text>
                    </div>
                  )}
                </>
              ),
          },
        ]}
      />
      <Typography.Paragraph className="above-12">
        <Code copyable>{`inkret entity where ${service} ${entity}.${field}`}</Code>
      </Typography.Paragraph>
    </>
  );
}
