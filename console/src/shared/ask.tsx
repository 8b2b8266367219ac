import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Alert, Form, Input, Modal, Select } from "antd";
import { useNavigate } from "react-router";
import { api, ApiProblem, take } from "../api/client";
import { useService } from "./service";
import { keys } from "../api/keys";

interface Asked {
  endpoint: string;
  audience: string;
  entity: string;
  field: string;
  member?: string;
  needed_by: string;
  reason: string;
}

/** Asks that a field be granted at an endpoint; what is known of it is filled in already. */
export function Ask({ known = {}, close }: { known?: Partial<Asked> & { service?: string }; close: () => void }) {
  const [form] = Form.useForm<Asked>();
  const entity = Form.useWatch("entity", form) ?? known.entity;
  const navigate = useNavigate();
  const queries = useQueryClient();
  const picked = useService();
  const service = known.service ?? picked.name ?? "";
  const audiences = picked.services.data?.find((s) => s.name === service)?.audiences ?? [];
  const endpoints = useQuery({
    queryKey: keys.knownEndpoints(service),
    queryFn: () => take(api.GET("/api/v1/endpoints", { params: { query: { service, known: true, size: 500 } } })),
    enabled: service !== "",
  });
  const entities = useQuery({
    queryKey: keys.entities(service),
    queryFn: () => take(api.GET("/api/v1/services/{service}/entities", { params: { path: { service } } })),
    enabled: service !== "",
  });
  const fields = useQuery({
    queryKey: keys.fieldNames(service, entity),
    queryFn: () =>
      take(
        api.GET("/api/v1/services/{service}/fields", { params: { path: { service }, query: { entity, size: 500 } } }),
      ),
    enabled: service !== "" && !!entity,
  });
  const ask = useMutation({
    mutationFn: (a: Asked) =>
      take(api.POST("/api/v1/requests", { body: { ...a, service, member: a.member || undefined } })),
    onSuccess: (q) => {
      void queries.invalidateQueries({ queryKey: keys.requests() });
      close();
      navigate(`/requests/${q.id}`);
    },
  });
  const search = { showSearch: { optionFilterProp: "label" } } as const;
  return (
    <Modal
      open
      title="Ask for a field"
      okText="Ask"
      cancelText="Leave"
      onCancel={close}
      onOk={() => form.submit()}
      confirmLoading={ask.isPending}
      width={560}
    >
      <Form form={form} layout="vertical" requiredMark={false} initialValues={known} onFinish={ask.mutate}>
        <Form.Item label="Endpoint" name="endpoint" rules={[{ required: true, message: "At which endpoint?" }]}>
          <Select
            {...search}
            loading={endpoints.isLoading}
            options={endpoints.data?.items.map((e) => ({ value: e.endpoint, label: e.endpoint }))}
          />
        </Form.Item>
        <Form.Item label="For the audience" name="audience" rules={[{ required: true, message: "Who calls it?" }]}>
          <Select {...search} options={audiences.map((a) => ({ value: a, label: a }))} />
        </Form.Item>
        <Form.Item label="Entity" name="entity" rules={[{ required: true, message: "Of which entity?" }]}>
          <Select
            {...search}
            loading={entities.isLoading}
            onChange={() => form.setFieldValue("field", undefined)}
            options={entities.data?.map((e) => ({ value: e.name, label: e.name }))}
          />
        </Form.Item>
        <Form.Item label="Field" name="field" rules={[{ required: true, message: "Which field?" }]}>
          <Select
            {...search}
            disabled={!entity}
            loading={fields.isLoading}
            options={fields.data?.items.map((f) => ({ value: f.name, label: `${f.name} (${f.class ?? "unclassed"})` }))}
          />
        </Form.Item>
        <Form.Item label="Called in the answer, if not as the field" name="member">
          <Input maxLength={200} />
        </Form.Item>
        <Form.Item
          label="Who needs it: a page, an application, a program"
          name="needed_by"
          rules={[{ required: true, whitespace: true, message: "Say who needs it" }]}
        >
          <Input maxLength={2000} />
        </Form.Item>
        <Form.Item
          label="Why"
          name="reason"
          rules={[{ required: true, whitespace: true, message: "Say why: a reviewer decides by it" }]}
        >
          <Input.TextArea rows={3} maxLength={2000} />
        </Form.Item>
        {ask.error && (
          <Alert
            role="alert"
            type="error"
            showIcon
            title={
              ask.error instanceof ApiProblem
                ? ask.error.message
                : "This did not reach the service; what you wrote is still here."
            }
          />
        )}
      </Form>
    </Modal>
  );
}
