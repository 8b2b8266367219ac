import { useMutation, useQuery } from "@tanstack/react-query";
import { App, Button, Flex, Input, Modal, Typography } from "antd";
import { useState } from "react";
import { Link, useNavigate } from "react-router";
import { api, take, type ShapeProposal } from "../../api/client";
import { count } from "../../shared/format";
import { useMay } from "../../shared/session";
import { Empty, Failed, Loading } from "../../shared/states";
import { Code } from "../../shared/tags";
import { keepWorking, workingOf } from "../../shared/working";
import { keys } from "../../api/keys";

/** Shapes with where they are used; pulling out and writing out each make a change that is looked at before it is saved. */
export function ShapesPanel({ service }: { service: string }) {
  const may = useMay("reviewer", service);
  const navigate = useNavigate();
  const { message } = App.useApp();
  const list = useQuery({
    queryKey: keys.shapes(service),
    queryFn: () => take(api.GET("/api/v1/services/{service}/shapes", { params: { path: { service } } })),
  });
  const [pulling, setPulling] = useState<ShapeProposal>();
  const change = useMutation({
    mutationFn: (c: { inline?: string; pull_out?: ShapeProposal }) => {
      const working = workingOf(service);
      return take(
        api.POST("/api/v1/services/{service}/contracts/trial", {
          params: { path: { service } },
          body: { ...c, files: working?.files, base: working?.base },
        }),
      );
    },
    onSuccess: (t) => {
      keepWorking(service, { files: t.files, base: t.base, hash: t.hash });
      navigate(`/contracts/${encodeURIComponent(service)}/edit`);
    },
    onError: (e) => void message.error(e.message),
  });
  if (list.isPending) return <Loading what="the shapes" />;
  if (list.error) return <Failed error={list.error} again={() => list.refetch()} />;
  const { shapes, proposals } = list.data;
  return (
    <div className="stack">
      {proposals.map((p) => (
        <section key={p.name} className="sheet proposal" aria-label={`Proposed shape ${p.name}`}>
          <Flex justify="space-between" gap={12} wrap>
            <div>
              <Typography.Title level={2}>
                {count(p.places.length, "place")} of {p.entity} grant the same {p.grants.length}
              </Typography.Title>
              <Code>{p.grants.join(", ")}</Code>
              <ul className="plain">
                {p.places.map((at) => (
                  <li key={at.file + at.pointer}>
                    <Code>{at.endpoint}</Code> {at.what}, line {at.line}
                  </li>
                ))}
              </ul>
            </div>
            {may && <Button onClick={() => setPulling(p)}>Pull out as a shape</Button>}
          </Flex>
        </section>
      ))}
      {shapes.length === 0 && proposals.length === 0 && (
        <Empty title="No shapes">
          Where two responses repeat the same grants, one shape for both is proposed here.
        </Empty>
      )}
      {shapes.map((s) => (
        <section key={s.name} className="sheet" aria-label={`Shape ${s.name}`}>
          <Flex justify="space-between" gap={12} wrap>
            <div>
              <Typography.Title level={2}>
                <Link
                  to={`/contracts/${encodeURIComponent(service)}/edit?as=text&file=${encodeURIComponent(s.file)}&line=${s.line}`}
                >
                  {s.name}
                </Link>{" "}
                <Typography.Text type="secondary">over {s.entity}</Typography.Text>
              </Typography.Title>
              <Code>
                {s.grants
                  .map((g) => (g.carries && g.carries !== `${s.entity}.${g.name}` ? `${g.name}: ${g.carries}` : g.name))
                  .join(", ")}
              </Code>
              <Typography.Paragraph className="margin-6px-0-0">
                {s.uses.length === 0
                  ? "used nowhere"
                  : `${count(s.uses.length, "use")}; a change reaches ${count(s.touches.length, "endpoint")}:`}
              </Typography.Paragraph>
              <ul className="plain">
                {s.touches.map((e) => (
                  <li key={e}>
                    <Code>{e}</Code>
                  </li>
                ))}
              </ul>
            </div>
            {may && s.uses.length > 0 && (
              <Button
                loading={change.isPending && change.variables?.inline === s.name}
                onClick={() => change.mutate({ inline: s.name })}
              >
                Write out everywhere
              </Button>
            )}
          </Flex>
        </section>
      ))}
      <Modal
        title="Pull out as a shape"
        open={pulling !== undefined}
        okText="Look at the change"
        okButtonProps={{ disabled: !pulling?.name, loading: change.isPending }}
        onOk={() => pulling && change.mutate({ pull_out: pulling })}
        onCancel={() => setPulling(undefined)}
      >
        <label>
          Name of the shape
          <Input
            value={pulling?.name}
            onChange={(e) => setPulling((p) => p && { ...p, name: e.target.value })}
            onPressEnter={() => pulling && change.mutate({ pull_out: pulling })}
          />
        </label>
      </Modal>
    </div>
  );
}
