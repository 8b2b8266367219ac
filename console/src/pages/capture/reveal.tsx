import { useMutation } from "@tanstack/react-query";
import { Alert, Button, Flex, Input, Modal, Typography } from "antd";
import { useState } from "react";
import { api, take, type WireNode } from "../../api/client";
import { useMay } from "../../shared/session";
import { useFailed } from "../../shared/states";
import { Code } from "../../shared/tags";

/** Actions on the value that has the focus. */
export function ValueTools({
  capture,
  node,
  path,
  kept,
}: {
  capture: number;
  node: WireNode;
  path: string;
  kept: boolean;
}) {
  const masked = node.value !== undefined && node.value.includes("•");
  const may = useMay("reviewer");
  const [open, setOpen] = useState(false);
  return (
    <Flex gap={10} wrap align="center">
      <Code copyable>{path}</Code>
      {node.line ? <Typography.Text type="secondary">granted in line {node.line}</Typography.Text> : null}
      {masked && may && kept && (
        <Button size="small" onClick={() => setOpen(true)}>
          Reveal the value…
        </Button>
      )}
      {open && <Reveal capture={capture} node={node} path={path} close={() => setOpen(false)} />}
    </Flex>
  );
}

function Reveal({ capture, node, path, close }: { capture: number; node: WireNode; path: string; close: () => void }) {
  const failed = useFailed();
  const [reason, setReason] = useState("");
  const reveal = useMutation({
    mutationFn: () =>
      take(
        api.POST("/api/v1/captures/{capture_id}/reveal", {
          params: { path: { capture_id: capture } },
          body: { pointer: node.pointer ?? "", reason },
        }),
      ),
    onError: failed,
  });
  return (
    <Modal
      title="Reveal one value"
      open
      onCancel={close}
      footer={
        reveal.data ? (
          <Button type="primary" onClick={close}>
            Done
          </Button>
        ) : (
          <>
            <Button onClick={close}>Cancel</Button>
            <Button
              type="primary"
              disabled={reason.trim().length < 5}
              loading={reveal.isPending}
              onClick={() => reveal.mutate()}
            >
              Reveal it
            </Button>
          </>
        )
      }
    >
      <div className="stack">
        <Code>{path}</Code>
        {reveal.data ? (
          <Alert
            type="warning"
            showIcon
            title="That you saw this is on the trail."
            description={<Code copyable>{reveal.data.value}</Code>}
          />
        ) : (
          <label>
            Why it must be seen; it goes on the trail
            <Input
              value={reason}
              onChange={(e) => setReason(e.target.value)}
              onPressEnter={() => reason.trim().length >= 5 && reveal.mutate()}
              autoFocus
            />
          </label>
        )}
      </div>
    </Modal>
  );
}
