import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Alert, App, Button, DatePicker, Flex, Form, Input, Modal, Select, Typography } from "antd";
import type { Dayjs } from "dayjs";
import { useState } from "react";
import { api, ApiProblem, take, type FindingsChange, type FindingsChanged, type State } from "../../api/client";
import { count } from "../../shared/format";
import { useLabels, usePeople } from "../../shared/people";
import { useFailed } from "../../shared/states";
import { states, stateWords } from "../../shared/tags";
import { changed } from "../../api/keys";

interface Wish {
  to?: State;
  until?: Dayjs;
  person?: string;
  team?: string;
  due?: Dayjs;
  never?: boolean;
  add?: string[];
  remove?: string[];
  comment?: string;
}

/** Asks what to change, shows the effect, makes the change, and offers to undo it. */
export default function Change({
  of,
  title,
  close,
}: {
  of: Pick<FindingsChange, "ids" | "filter">;
  title: string;
  close: (changed: boolean) => void;
}) {
  const [form] = Form.useForm<Wish>();
  const to = Form.useWatch("to", form);
  const queries = useQueryClient();
  const failed = useFailed();
  const { message, notification } = App.useApp();
  const people = usePeople();
  const labels = useLabels();
  const [tried, setTried] = useState<FindingsChanged>();
  const body = (w: Wish): FindingsChange => ({
    ...of,
    to: w.to,
    until: w.to === "waived" ? w.until?.format("YYYY-MM-DD") : undefined,
    person: w.person,
    team: w.team || undefined,
    due: w.due?.format("YYYY-MM-DD"),
    add_labels: w.add?.length ? w.add : undefined,
    remove_labels: w.remove?.length ? w.remove : undefined,
    comment: w.comment || undefined,
  });
  const undo = async (id: number) => {
    try {
      const back = await take(
        api.POST("/api/v1/findings/changes/{change_id}/undo", { params: { path: { change_id: id } } }),
      );
      void changed(queries, "findings");
      void message.success(
        `${count(back.undone, "finding")} as before${back.left.length ? `, ${back.left.length} left: changed since` : ""}`,
      );
    } catch (e) {
      failed(e as Error);
    }
  };
  const send = useMutation({
    mutationFn: (w: Wish & { try: boolean }) =>
      take(api.POST("/api/v1/findings/changes", { body: { ...body(w), try: w.try } })),
    onSuccess: (out, w) => {
      if (w.try) {
        setTried(out);
        return;
      }
      void changed(queries, "findings");
      close(true);
      const key = `change-${out.id}`;
      notification.success({
        key,
        title: `${count(out.findings, "finding")} changed`,
        description: out.words,
        duration: 20,
        actions: out.id && (
          <Button
            size="small"
            onClick={() => {
              notification.destroy(key);
              void undo(out.id!);
            }}
          >
            Undo
          </Button>
        ),
      });
    },
  });
  const needsReason = to === "waived" || to === "not-a-leak";
  return (
    <Modal
      open
      title={title}
      onCancel={() => close(false)}
      width={560}
      footer={
        tried && tried.findings > 0
          ? [
              <Button key="back" onClick={() => setTried(undefined)}>
                Back
              </Button>,
              <Button
                key="do"
                type="primary"
                loading={send.isPending}
                onClick={() => send.mutate({ ...form.getFieldsValue(), try: false })}
              >
                Change {count(tried.findings, "finding")}
              </Button>,
            ]
          : [
              <Button key="no" onClick={() => close(false)}>
                Leave
              </Button>,
              <Button key="try" type="primary" loading={send.isPending} onClick={() => form.submit()}>
                See what changes
              </Button>,
            ]
      }
    >
      {tried && <Tried tried={tried} />}
      <Form
        form={form}
        layout="vertical"
        requiredMark={false}
        hidden={!!tried && tried.findings > 0}
        onFinish={(w) => send.mutate({ ...w, try: true })}
      >
        <Flex gap={12} wrap>
          <Form.Item label="Move to" name="to" className="grow-1 least-200">
            <Select
              allowClear
              showSearch={{ optionFilterProp: "label" }}
              placeholder="stay where they are"
              options={states
                .filter((s) => s !== "closed" && s !== "new" && s !== "returned")
                .map((s) => ({ value: s, label: stateWords[s] }))}
            />
          </Form.Item>
          {to === "waived" && (
            <Form.Item
              label="Until (last day)"
              name="until"
              rules={[{ required: true, message: "A waiver ends on a day" }]}
            >
              <DatePicker />
            </Form.Item>
          )}
          <Form.Item label="Assign to" name="person" className="grow-1 least-200">
            <Select
              allowClear
              showSearch={{ optionFilterProp: "label" }}
              placeholder="whoever has them"
              options={[
                { value: "me", label: "me" },
                { value: "nobody", label: "nobody" },
                ...(people.data ?? []).map((p) => ({ value: p.email, label: p.name || p.email })),
              ]}
            />
          </Form.Item>
        </Flex>
        <Flex gap={12} wrap>
          <Form.Item label="Team, in place of the endpoint's" name="team" className="grow-1 least-200">
            <Input maxLength={100} />
          </Form.Item>
          <Form.Item label="Due (last day)" name="due">
            <DatePicker />
          </Form.Item>
        </Flex>
        <Flex gap={12} wrap>
          <Form.Item label="Put labels on" name="add" className="grow-1 least-200">
            <Select
              mode="tags"
              tokenSeparators={[",", " "]}
              options={labels.data?.map((l) => ({ value: l.label, label: l.label }))}
            />
          </Form.Item>
          <Form.Item label="Take labels off" name="remove" className="grow-1 least-200">
            <Select mode="multiple" options={labels.data?.map((l) => ({ value: l.label, label: l.label }))} />
          </Form.Item>
        </Flex>
        <Form.Item
          label={needsReason ? "Reason" : "Comment"}
          name="comment"
          rules={[{ required: needsReason, message: "Say why, for whoever reads it later" }]}
        >
          <Input.TextArea rows={2} maxLength={10_000} />
        </Form.Item>
      </Form>
      {send.error && (
        <Alert
          role="alert"
          type="error"
          showIcon
          title={
            send.error instanceof ApiProblem
              ? send.error.message
              : "This did not reach the service; what you chose is still here."
          }
        />
      )}
    </Modal>
  );
}

/** The effect of a change. */
function Tried({ tried }: { tried: FindingsChanged }) {
  return (
    <div role="status" className="below-12">
      <Alert
        type={tried.findings > 0 ? "info" : "warning"}
        title={
          tried.findings > 0
            ? `${count(tried.findings, "finding")} of ${tried.matched} change: ${tried.words}.`
            : "None of them would change."
        }
      />
      {(tried.left ?? 0) > 0 && (
        <>
          <Typography.Paragraph className="margin-8px-0-0">{tried.left} stay as they are:</Typography.Paragraph>
          <ul>
            {tried.reasons?.map((r) => (
              <li key={r.why}>
                {r.findings}: {r.why}
              </li>
            ))}
          </ul>
        </>
      )}
    </div>
  );
}
