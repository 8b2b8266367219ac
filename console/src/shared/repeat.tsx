import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Alert, App, Button, Checkbox, Modal, Select, Typography } from "antd";
import { useState } from "react";
import { Link, useNavigate } from "react-router";
import { api, take } from "../api/client";
import { count } from "./format";
import { useMay } from "./session";
import { useFailed } from "./states";
import { Code } from "./tags";
import { changed, keys } from "../api/keys";

export type Calls = { capture: number } | { endpoint: string } | { batch: number };

/** The command that does the same. */
function command(calls: Calls, audience: string, writes: boolean): string {
  const [kind, id] = Object.entries(calls)[0]!;
  return `inkret capture repeat --${kind} ${id}${audience ? ` --audience ${audience}` : ""}${writes ? " --writes" : ""}`;
}

/** Repeats recorded calls as an audience, and leads to the result. */
export function Repeat({
  calls,
  service,
  audience,
  unsafe,
  children,
}: {
  calls: Calls;
  service: string;
  audience?: string;
  unsafe?: boolean;
  children: React.ReactNode;
}) {
  const [open, setOpen] = useState(false);
  if (!useMay("reviewer", service)) return null;
  return (
    <>
      <Button onClick={() => setOpen(true)}>{children}</Button>
      {open && (
        <Dialog calls={calls} service={service} was={audience ?? ""} unsafe={unsafe} close={() => setOpen(false)} />
      )}
    </>
  );
}

function Dialog({
  calls,
  service,
  was,
  unsafe,
  close,
}: {
  calls: Calls;
  service: string;
  was: string;
  unsafe?: boolean;
  close: () => void;
}) {
  const { notification } = App.useApp();
  const navigate = useNavigate();
  const queries = useQueryClient();
  const failed = useFailed();
  const services = useQuery({
    queryKey: keys.services(),
    queryFn: () => take(api.GET("/api/v1/services")),
    staleTime: 60_000,
  });
  const [audience, setAudience] = useState("");
  const [writes, setWrites] = useState(false);
  const again = useMutation({
    mutationFn: async () => {
      const batch = await take(
        api.POST("/api/v1/repeats", {
          body: { ...calls, audience: audience || undefined, writes: writes || undefined },
        }),
      );
      const made = await take(api.GET("/api/v1/captures", { params: { query: { batch: batch.id, size: 1 } } }));
      return { batch, first: made.items[0] };
    },
    onSuccess: ({ batch, first }) => {
      void changed(queries, "captures");
      notification.success({
        title: `${count(batch.captures, "call")} made again: ${count(batch.findings, "finding")}, ${batch.new_findings} of them new`,
      });
      close();
      navigate("capture" in calls && first ? `/captures/${first.id}` : `/captures?batch=${batch.id}`);
    },
    onError: failed,
  });
  const audiences = services.data?.find((s) => s.name === service)?.audiences ?? [];
  return (
    <Modal
      title="Make calls again"
      open
      onCancel={close}
      onOk={() => again.mutate()}
      okText={"capture" in calls ? "Make the call" : "Make the calls"}
      okButtonProps={{ loading: again.isPending, disabled: unsafe && !writes }}
    >
      <div className="stack">
        <Typography.Text>
          They go to the servers that an administrator has allowed, with the credentials that are kept for the audience.
        </Typography.Text>
        <label>
          As
          <Select
            aria-label="As which audience"
            showSearch
            className="wide-full"
            value={audience}
            onChange={setAudience}
            options={[
              { value: "", label: was ? `${was}, as before` : "whom each was made as" },
              ...audiences.filter((a) => a !== was).map((a) => ({ value: a, label: a })),
            ]}
          />
        </label>
        {unsafe !== false && (
          <Checkbox checked={writes} onChange={(e) => setWrites(e.target.checked)}>
            {unsafe
              ? "The call may change something at the server; make it all the same"
              : "Make calls too that may change something at the server"}
          </Checkbox>
        )}
        {again.isPending && <Alert type="info" title="Calling…" />}
        <Code copyable>{command(calls, audience, writes)}</Code>
      </div>
    </Modal>
  );
}

/** Leads to the matrix of a call: what every audience is answered. */
export function AsEveryone({ of, service }: { of: { capture: number } | { endpoint: string }; service: string }) {
  const [kind, id] = Object.entries(of)[0]!;
  if (!useMay("reviewer", service)) return null;
  return (
    <Link to={`/matrix?${kind}=${encodeURIComponent(id)}`}>
      <Button>As every audience…</Button>
    </Link>
  );
}

/** Whether a call of this method may change something at the server (RFC 9110 section 9.2.1). */
export const mayChange = (method: string) => !["GET", "HEAD", "OPTIONS"].includes(method);
