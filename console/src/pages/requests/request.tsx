import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import {
  Alert,
  App,
  Button,
  Checkbox,
  Descriptions,
  Flex,
  Form,
  Input,
  InputNumber,
  Popconfirm,
  Radio,
  Typography,
} from "antd";
import { Link, useParams } from "react-router";
import { api, ApiProblem, take, type ExposureRequest } from "../../api/client";
import { ago, time } from "../../shared/format";
import { useMay } from "../../shared/session";
import { Heading } from "../../shared/shell";
import { Failed, Loading, useFailed } from "../../shared/states";
import { Code } from "../../shared/tags";
import { RequestMark } from "./mark";
import { changed, keys } from "../../api/keys";

/** One exposure request: what is asked, what granting it writes, and the decision. */
export default function RequestPage() {
  const id = Number(useParams().id);
  const one = useQuery({
    queryKey: keys.request(id),
    queryFn: () => take(api.GET("/api/v1/requests/{request_id}", { params: { path: { request_id: id } } })),
  });
  const mayDecide = useMay("reviewer", one.data?.service);
  if (one.isPending) return <Loading what="the request" />;
  if (one.error) return <Failed error={one.error} again={() => one.refetch()} />;
  const q = one.data;
  const items = [
    [
      "Field",
      <Link
        to={`/entities/${encodeURIComponent(q.service)}/${encodeURIComponent(q.entity)}?field=${encodeURIComponent(q.field)}`}
      >{`${q.entity}.${q.field}`}</Link>,
    ],
    ["Class", q.class || "unclassed"],
    ["Endpoint", <Code>{q.endpoint}</Code>],
    ["Audience", q.audience],
    ["Needed by", q.needed_by],
    ["Why", <span className="space-pre-wrap">{q.reason}</span>],
    ["Asked", <span title={time(q.at)}>{`${q.author}, ${ago(q.at)}`}</span>],
    ["Would be written", q.grant ? <Code copyable>{q.grant}</Code> : ""],
  ] as const;
  return (
    <>
      <Heading title={`Request for ${q.entity}.${q.field}`} aside={<RequestMark state={q.state} />}>
        Request for <Code>{`${q.entity}.${q.field}`}</Code>
      </Heading>
      <div className="stack most-860">
        <section className="sheet" aria-label="What is asked">
          <Descriptions
            size="small"
            column={1}
            items={items.map(([label, children]) => ({ key: label, label, children }))}
          />
          {(q.class === "personal" || q.class === "secret") && q.state === "open" && (
            <Alert
              type="warning"
              showIcon
              title={`It is ${q.class}: a revision that exposes more of it waits for a second person.`}
              className="above-8"
            />
          )}
          {q.refuse && (
            <Alert
              type="info"
              showIcon
              title="It cannot be granted from here"
              description={q.refuse}
              className="above-8"
            />
          )}
        </section>
        {q.state !== "open" && (
          <section className="sheet" aria-label="Decision">
            <Typography.Title level={2}>Decision</Typography.Title>
            <RequestMark state={q.state} /> {q.decided_by},{" "}
            {q.decided && <span title={time(q.decided)}>{ago(q.decided)}</span>}
            {q.decision && (
              <Typography.Paragraph className="space-pre-wrap margin-8px-0-0">{q.decision}</Typography.Paragraph>
            )}
            {q.revision && (
              <Typography.Paragraph className="margin-8px-0-0">
                <Link to={`/contracts/${encodeURIComponent(q.service)}/revisions/${q.revision}`}>
                  Revision {q.revision} of the contracts
                </Link>{" "}
                says so.
              </Typography.Paragraph>
            )}
          </section>
        )}
        {q.state === "open" && mayDecide && <Decide q={q} />}
        {q.state === "open" && q.own && <Withdraw q={q} />}
      </div>
    </>
  );
}

interface Said {
  how: "grant" | "less" | "decline";
  max?: number;
  optional?: boolean;
  member?: string;
  comment?: string;
}

function Decide({ q }: { q: ExposureRequest }) {
  const [form] = Form.useForm<Said>();
  const how = Form.useWatch("how", form) ?? "grant";
  const queries = useQueryClient();
  const { message } = App.useApp();
  const decide = useMutation({
    mutationFn: (s: Said) =>
      take(
        api.POST("/api/v1/requests/{request_id}/decision", {
          params: { path: { request_id: q.id } },
          body: {
            grant: s.how !== "decline",
            comment: s.comment || undefined,
            less: s.how === "less" ? { max: s.max, optional: s.optional, member: s.member || undefined } : undefined,
          },
        }),
      ),
    onSuccess: () => {
      void changed(queries, "contracts");
      void message.success("Decided; who asked is told");
    },
  });
  return (
    <section className="sheet" aria-label="Decide">
      <Typography.Title level={2}>Decide</Typography.Title>
      <Form
        form={form}
        layout="vertical"
        requiredMark={false}
        initialValues={{ how: "grant" }}
        onFinish={decide.mutate}
        disabled={decide.isPending}
      >
        <Form.Item name="how" label="Answer">
          <Radio.Group
            options={[
              { value: "grant", label: "Grant it", disabled: !!q.refuse },
              { value: "less", label: "Grant less", disabled: !!q.refuse },
              { value: "decline", label: "Decline" },
            ]}
          />
        </Form.Item>
        {how === "less" && (
          <Flex gap={12} wrap align="end">
            <Form.Item label="At most so many characters" name="max">
              <InputNumber min={1} max={100_000} />
            </Form.Item>
            <Form.Item label="Called" name="member">
              <Input placeholder={q.member ?? q.field} maxLength={200} />
            </Form.Item>
            <Form.Item name="optional" valuePropName="checked">
              <Checkbox>it need not be there</Checkbox>
            </Form.Item>
          </Flex>
        )}
        <Form.Item
          label={how === "grant" ? "Comment" : "Reason"}
          name="comment"
          rules={[{ required: how !== "grant", message: "Say why, for whoever asked" }]}
        >
          <Input.TextArea rows={3} maxLength={10_000} />
        </Form.Item>
        {decide.error && (
          <Form.Item>
            <Alert
              role="alert"
              type="error"
              showIcon
              title={
                decide.error instanceof ApiProblem
                  ? decide.error.message
                  : "This did not reach the service; what you wrote is still here."
              }
            />
          </Form.Item>
        )}
        <Button type="primary" htmlType="submit" loading={decide.isPending}>
          {how === "decline" ? "Decline" : how === "less" ? "Grant less" : "Grant"}
        </Button>
      </Form>
    </section>
  );
}

function Withdraw({ q }: { q: ExposureRequest }) {
  const queries = useQueryClient();
  const failed = useFailed();
  const withdraw = useMutation({
    mutationFn: () => take(api.DELETE("/api/v1/requests/{request_id}", { params: { path: { request_id: q.id } } })),
    onSuccess: () => changed(queries, "contracts"),
    onError: failed,
  });
  return (
    <div>
      <Popconfirm
        title="Take the request back?"
        okText="Take it back"
        cancelText="Leave it"
        onConfirm={() => withdraw.mutate()}
      >
        <Button loading={withdraw.isPending}>Take the request back…</Button>
      </Popconfirm>
    </div>
  );
}
