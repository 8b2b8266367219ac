import { keepPreviousData, useMutation, useQuery } from "@tanstack/react-query";
import { Button, Flex, Input, Select, Table, Typography } from "antd";
import { useState } from "react";
import { Link } from "react-router";
import { api, take, type ClassOrNone, type Field } from "../../api/client";
import { useAddress } from "../../shared/address";
import { classes, ClassMark } from "../../shared/classes";
import { ago, count, time } from "../../shared/format";
import { useRevisionMade } from "../../shared/revisions";
import { useMay } from "../../shared/session";
import { Empty, Failed } from "../../shared/states";
import { Code } from "../../shared/tags";
import { keys } from "../../api/keys";

const key = (f: Field) => `${f.entity}.${f.name}`;

/** Fields with the class that is suggested for each, to be accepted one by one, by selection, or all that a filter leaves. */
export function Queue({ service, entity }: { service: string; entity?: string }) {
  const { get, set } = useAddress();
  const may = useMay("reviewer", service);
  const { made, failed } = useRevisionMade();
  const [chosen, setChosen] = useState<Record<string, ClassOrNone>>({});
  const [picked, setPicked] = useState<string[]>([]);
  const wanted = (get("class") || (entity ? "any" : "unclassed")) as ClassOrNone | "any";
  const page = Number(get("page")) || 1;
  const size = 100;
  const query = {
    class: wanted === "any" ? undefined : wanted,
    suggested: (get("suggested") || undefined) as ClassOrNone | undefined,
    q: get("q") || undefined,
    entity,
    page,
    size,
  };
  const list = useQuery({
    queryKey: keys.fields(service, query),
    queryFn: () => take(api.GET("/api/v1/services/{service}/fields", { params: { path: { service }, query } })),
    placeholderData: keepPreviousData,
  });
  const save = useMutation({
    mutationFn: (fields: { entity: string; field: string; class: ClassOrNone }[]) =>
      take(api.POST("/api/v1/services/{service}/fields", { params: { path: { service } }, body: { fields } })),
    onSuccess: (r) => {
      setChosen({});
      setPicked([]);
      made(r);
    },
    onError: failed,
  });
  const items = list.data?.items ?? [];
  const to = (f: Field): ClassOrNone => chosen[key(f)] ?? (f.class === "unclassed" ? f.suggested : f.class);
  const changed = (fields: Field[]) =>
    fields.filter((f) => to(f) !== f.class).map((f) => ({ entity: f.entity, field: f.name, class: to(f) }));
  const selection = changed(items.filter((f) => picked.includes(key(f))));
  const edited = changed(items.filter((f) => chosen[key(f)]));
  const all = changed(items);
  return (
    <>
      <Flex gap={8} wrap role="search" aria-label="Filters" className="below-12">
        <Input.Search
          allowClear
          aria-label="Search fields"
          placeholder="Search entity, field, note"
          className="wide-240"
          defaultValue={get("q")}
          onSearch={(q) => set({ q })}
        />
        <Select
          aria-label="Class"
          className="wide-160"
          value={wanted}
          onChange={(v) => set({ class: v })}
          options={[{ value: "any", label: "any class" }, ...classes.map((c) => ({ value: c, label: c }))]}
        />
        <Select
          allowClear
          aria-label="Suggested class"
          placeholder="Suggested class"
          className="wide-180"
          value={query.suggested}
          onChange={(v?: string) => set({ suggested: v ?? "" })}
          options={classes.map((c) => ({ value: c, label: `suggested ${c}` }))}
        />
        {may && (
          <>
            <Button
              type="primary"
              disabled={!selection.length && !edited.length}
              loading={save.isPending}
              onClick={() => save.mutate(selection.length ? selection : edited)}
            >
              {selection.length
                ? `Class the ${selection.length} selected`
                : edited.length
                  ? `Save ${count(edited.length, "class", "classes")}`
                  : "Class the selected"}
            </Button>
            <Button
              disabled={!all.length || wanted !== "unclassed"}
              loading={save.isPending}
              onClick={() => save.mutate(all)}
              title="Every field that the filter leaves and that has a suggestion"
            >
              Accept all {wanted === "unclassed" ? all.length : ""} shown
            </Button>
          </>
        )}
      </Flex>
      {list.error ? (
        <Failed error={list.error} again={() => list.refetch()} />
      ) : (
        <Table<Field>
          rowKey={key}
          size="small"
          aria-label="Fields"
          loading={list.isPending || list.isPlaceholderData}
          dataSource={items}
          rowSelection={
            may
              ? {
                  selectedRowKeys: picked,
                  onChange: (keys) => setPicked(keys as string[]),
                  getCheckboxProps: (f) => ({ "aria-label": `Select ${key(f)}` }),
                }
              : undefined
          }
          pagination={{
            current: page,
            pageSize: size,
            total: list.data?.total,
            hideOnSinglePage: true,
            showSizeChanger: false,
            onChange: (p) => set({ page: p > 1 ? String(p) : "" }),
          }}
          locale={{
            emptyText: list.isPending ? (
              " "
            ) : wanted === "unclassed" ? (
              <Empty title="Every field has a class">
                A column that is added later will stand here until somebody classes it.
              </Empty>
            ) : (
              <Empty title="No such field" />
            ),
          }}
          columns={[
            {
              title: "Field",
              render: (_, f) => (
                <>
                  {entity ? (
                    <Code>{f.name}</Code>
                  ) : (
                    <Link
                      to={`/entities/${encodeURIComponent(service)}/${encodeURIComponent(f.entity)}?field=${encodeURIComponent(f.name)}`}
                    >
                      <Code>{key(f)}</Code>
                    </Link>
                  )}
                  {f.note && (
                    <div>
                      <Typography.Text type="secondary">{f.note}</Typography.Text>
                    </div>
                  )}
                </>
              ),
            },
            { title: "Form", render: (_, f) => <span className="code">{f.form}</span> },
            {
              title: "Class",
              width: 190,
              render: (_, f) => (
                <>
                  <ClassMark value={f.class} />
                  {f.classed_by && (
                    <div title={time(f.classed_at)}>
                      <Typography.Text type="secondary">
                        {f.classed_by}, {ago(f.classed_at)}
                      </Typography.Text>
                    </div>
                  )}
                </>
              ),
            },
            {
              title: "Suggested, and why",
              render: (_, f) => (
                <>
                  <ClassMark value={f.suggested} /> <Typography.Text type="secondary">({f.sure})</Typography.Text>
                  <div>
                    <Typography.Text type="secondary">{f.reason}</Typography.Text>
                  </div>
                </>
              ),
            },
            {
              title: "Seen at",
              render: (_, f) =>
                f.endpoints.length ? (
                  <span title={f.endpoints.join("\n")}>
                    {count(f.endpoints.length, "endpoint")}
                    {f.open ? (
                      <>
                        ,{" "}
                        <Link to={`/findings?entity=${encodeURIComponent(f.entity)}&q=${encodeURIComponent(f.name)}`}>
                          {count(f.open, "finding")}
                        </Link>
                      </>
                    ) : (
                      ""
                    )}
                  </span>
                ) : (
                  "nowhere yet"
                ),
            },
            {
              title: "Class it",
              width: 170,
              render: (_, f) =>
                may && (
                  <Select<ClassOrNone>
                    size="small"
                    aria-label={`Class of ${key(f)}`}
                    className="wide-130"
                    status={chosen[key(f)] && chosen[key(f)] !== f.class ? "warning" : undefined}
                    value={to(f)}
                    onChange={(c) => setChosen((old) => ({ ...old, [key(f)]: c }))}
                    options={classes.map((c) => ({ value: c, label: c }))}
                  />
                ),
            },
          ]}
        />
      )}
    </>
  );
}
