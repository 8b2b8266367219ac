import { useState } from "react";
import {
  Alert,
  Button,
  Checkbox,
  Dropdown,
  Flex,
  Input,
  Modal,
  Popconfirm,
  Segmented,
  Select,
  Tag,
  Tooltip,
  Typography,
} from "antd";
import type { EditableContract, GrantNode, NewResponse, ResponseContract } from "../../api/client";
import { useAddress } from "../../shared/address";
import { ClassMark } from "../../shared/classes";
import { Empty } from "../../shared/states";
import { Code } from "../../shared/tags";
import { GrantForm } from "./grant-form";
import { placeOf, type Want } from "./places";
import { type Holder, usedAt, useGranting, useShape } from "./shape-of";

/** One endpoint's contract: its responses, each with the entity's fields on one side and what it grants on the other; and what it accepts. */
export function GrantsEditor({ contract, busy, onEdit }: { contract: EditableContract; busy: boolean; onEdit: Want }) {
  const { get, set } = useAddress();
  const side = get("side") === "accepts" ? "accepts" : "answers";
  const open = Number(get("response")) || 0;
  const setOpen = (i: number) => set({ response: i ? String(i) : "" });
  const all = (side === "answers" ? contract.responses : contract.accepts) ?? [];
  const response = all[Math.min(open, all.length - 1)];
  const begin = (r: NewResponse) => {
    onEdit({ ...placeOf(contract), ...(side === "answers" ? { respond: r } : { accept: r }) });
    setOpen(all.length);
  };
  return (
    <div className={busy ? "busy" : undefined} aria-busy={busy}>
      <Flex justify="space-between" gap={8} wrap className="below-8">
        <Segmented<"answers" | "accepts">
          size="small"
          value={side}
          onChange={(v) => set({ side: v === "accepts" ? v : "", response: "" })}
          options={[
            { value: "answers", label: "What it answers" },
            {
              value: "accepts",
              label: `What it accepts${contract.accepts ? "" : contract.judges_requests ? " (nothing)" : " (not judged)"}`,
            },
          ]}
        />
        <Team contract={contract} onEdit={onEdit} />
      </Flex>
      <Flex
        gap={6}
        wrap
        align="center"
        role="tablist"
        aria-label={side === "answers" ? "Responses" : "Accepted bodies"}
        className="below-10"
      >
        {all.map((r, i) => (
          <Button
            key={r.pointer}
            role="tab"
            aria-selected={r === response}
            size="small"
            type={r === response ? "primary" : "default"}
            ghost={r === response}
            onClick={() => setOpen(i)}
          >
            {[r.name, r.statuses.join(" "), (r.audiences ?? ["everybody"]).join(", ")].filter(Boolean).join(" · ")}
          </Button>
        ))}
        <NewResponse contract={contract} accepts={side === "accepts"} onAdd={begin} />
      </Flex>
      {response ? (
        <ResponseEditor
          key={response.pointer}
          contract={contract}
          response={response}
          accepts={side === "accepts"}
          onEdit={onEdit}
          onGone={() => setOpen(0)}
        />
      ) : (
        <Empty
          title={
            side === "answers"
              ? "No response is declared"
              : contract.judges_requests
                ? "Nothing may be sent"
                : "What clients send is not judged"
          }
        />
      )}
    </div>
  );
}

function Team({ contract, onEdit }: { contract: EditableContract; onEdit: Want }) {
  const [text, setText] = useState(contract.team ?? "");
  const save = () => {
    if (text !== (contract.team ?? "")) onEdit({ ...placeOf(contract), team: text });
  };
  return (
    <Input
      size="small"
      aria-label="Team"
      addonBefore="team"
      className="wide-200"
      value={text}
      onChange={(e) => setText(e.target.value)}
      onBlur={save}
      onPressEnter={save}
    />
  );
}

/** The forms that standards and habits give bodies; they are written out as grants. */
const envelopes = [
  { value: "page" as const, label: "a page of a list: data, meta and links" },
  { value: "json-api" as const, label: "JSON:API" },
  { value: "hal" as const, label: "HAL: _links and _embedded" },
  { value: "odata" as const, label: "OData: value and annotations" },
  { value: "problem" as const, label: "Problem Details, of an error" },
];

function NewResponse({
  contract,
  accepts,
  onAdd,
}: {
  contract: EditableContract;
  accepts: boolean;
  onAdd: (r: NewResponse) => void;
}) {
  const [open, setOpen] = useState(false);
  const [status, setStatus] = useState("200");
  const [audiences, setAudiences] = useState<string[]>([]);
  const [entity, setEntity] = useState<string | undefined>(contract.responses?.[0]?.entity);
  const [at, setAt] = useState(contract.responses?.[0]?.at ?? "");
  const [many, setMany] = useState(false);
  const [envelope, setEnvelope] = useState<NewResponse["envelope"]>();
  const add = () => {
    onAdd({
      audiences,
      statuses: accepts ? [] : status.split(/[\s,]+/).filter(Boolean),
      entity: entity || undefined,
      at: at || undefined,
      many: many || undefined,
      envelope,
    });
    setOpen(false);
  };
  return (
    <>
      <Button size="small" type="dashed" onClick={() => setOpen(true)}>
        + {accepts ? "accepted body" : "response"}
      </Button>
      <Modal
        title={accepts ? "A body that is accepted" : "A response"}
        open={open}
        onCancel={() => setOpen(false)}
        onOk={add}
        okText="Add"
      >
        <div className="stack tight">
          {!accepts && (
            <label>
              Statuses{" "}
              <Input value={status} onChange={(e) => setStatus(e.target.value)} placeholder="200, 4XX, default" />
            </label>
          )}
          <label>
            Audiences{" "}
            <Select
              mode="multiple"
              className="wide-full"
              value={audiences}
              onChange={setAudiences}
              placeholder="everybody"
              options={contract.audiences.map((a) => ({ value: a, label: a }))}
            />
          </label>
          <label>
            Entity{" "}
            <Select
              showSearch
              allowClear
              className="wide-full"
              value={entity}
              onChange={setEntity}
              options={contract.entities.map((e) => ({ value: e.name, label: e.name }))}
            />
          </label>
          {!accepts && (
            <label>
              What stands around it{" "}
              <Select
                allowClear
                className="wide-full"
                value={envelope}
                onChange={setEnvelope}
                placeholder="nothing"
                options={envelopes}
              />
            </label>
          )}
          <label>
            Where it stands (a JSON Pointer; nothing for the body itself){" "}
            <Input value={at} onChange={(e) => setAt(e.target.value)} placeholder="/data" />
          </label>
          <Checkbox checked={many} onChange={(e) => setMany(e.target.checked)}>
            a list of them
          </Checkbox>
        </div>
      </Modal>
    </>
  );
}

function ResponseEditor({
  contract,
  response: r,
  accepts,
  onEdit,
  onGone,
}: {
  contract: EditableContract;
  response: ResponseContract;
  accepts: boolean;
  onEdit: Want;
  onGone: () => void;
}) {
  const entity = contract.entities.find((e) => e.name === r.entity);
  const place = placeOf(r);
  const [confirm, setConfirm] = useState<{ field: string; class: string }>();
  const inShape = useShape(contract);
  const granting = useGranting(contract, onEdit);
  const holder: Holder = { ...place, shape: r.shape };
  const byField = new Map<string, GrantNode>();
  for (const g of r.grants)
    if (g.field && !g.reference && g.carries === `${r.entity}.${g.field}`) byField.set(g.field, g);
  const byType = r.grants.some((g) => g.of_type);
  const roots = r.grants.filter((g) => g.of_type && r.operations?.some((o) => o.startsWith(`${g.name}.`)));
  const tick = (field: string, cls: string, on: boolean, why?: string) => {
    const g = byField.get(field);
    if (!on && g) {
      inShape(g, () => onEdit({ ...placeOf(g), remove: true }));
      return;
    }
    if (cls === "secret" && !accepts && why === undefined) {
      setConfirm({ field, class: cls });
      return;
    }
    // what a client sends of its secrets is said of this request only
    granting(accepts && cls === "secret" ? place : holder, { field, reason: why });
  };
  return (
    <>
      <Flex gap={10} wrap align="center" className="below-10">
        <Select
          mode="multiple"
          size="small"
          aria-label="Audiences"
          placeholder="everybody"
          className="least-200"
          value={r.audiences ?? []}
          onChange={(v) => onEdit({ ...place, audiences: v })}
          options={contract.audiences.map((a) => ({ value: a, label: a }))}
        />
        {!accepts && r.entity && (
          <Checkbox checked={r.own ?? false} onChange={(e) => onEdit({ ...place, own: e.target.checked })}>
            own records only
          </Checkbox>
        )}
        <Typography.Text type="secondary">
          {byType ? "granted by type" : (r.entity ?? "no entity")}
          {r.many ? ", a list" : ""}{" "}
          {r.at ? (
            <>
              at <Code>{r.at}</Code>
            </>
          ) : (
            !byType && "as the body itself"
          )}
          {r.shape && (
            <>
              , shape <strong>{r.shape}</strong>
            </>
          )}
        </Typography.Text>
        <Popconfirm
          title="Take this response out of the contract?"
          okText="Take it out"
          onConfirm={() => {
            onGone();
            onEdit({ ...place, remove: true });
          }}
        >
          <Button size="small" type="text" danger>
            take out
          </Button>
        </Popconfirm>
      </Flex>
      <div className="grant-sides">
        <div aria-label={byType ? "What may be asked for" : `Fields of ${r.entity ?? "no entity"}`} role="group">
          <Typography.Title level={2}>
            {byType ? "may be asked for" : entity ? `${entity.name} has` : "No entity is named"}
          </Typography.Title>
          {roots.map((root) => (
            <Operations key={root.name} root={root} onEdit={onEdit} />
          ))}
          {entity?.fields.map((f) => {
            const g = byField.get(f.name);
            return (
              <div key={f.name} className="field-row">
                <Checkbox checked={g !== undefined} onChange={(e) => tick(f.name, f.class, e.target.checked)}>
                  <span className="code">{f.name}</span>
                </Checkbox>
                <ClassMark value={f.class} />
              </div>
            );
          })}
          {entity?.relations.map((rel) => {
            const g = r.grants.find((x) => x.relation === rel.name);
            return (
              <div key={rel.name} className="field-row">
                <Checkbox
                  checked={g !== undefined}
                  disabled={g === undefined}
                  onChange={() => g && inShape(g, () => onEdit({ ...placeOf(g), remove: true }))}
                >
                  <span className="code">{rel.name}</span>
                </Checkbox>
                {g ? (
                  <Typography.Text type="secondary">→ {rel.entity}</Typography.Text>
                ) : (
                  <RelationMenu contract={contract} entity={rel.entity} name={rel.name} at={holder} onEdit={onEdit} />
                )}
              </div>
            );
          })}
        </div>
        <div aria-label="What is granted" role="group">
          <Typography.Title level={2}>{accepts ? "may be sent" : "goes out"}</Typography.Title>
          {r.grants.length === 0 && <Typography.Text type="secondary">nothing</Typography.Text>}
          <GrantTree
            all={r.grants.filter((g) => !roots.includes(g))}
            contract={contract}
            accepts={accepts}
            onEdit={onEdit}
          />
          <AddMember
            contract={contract}
            entity={r.entity}
            taken={r.grants.map((g) => g.name)}
            at={holder}
            onEdit={onEdit}
          />
          {r.beside && (
            <>
              <Typography.Title level={2} className="above-12px">
                beside it
              </Typography.Title>
              <GrantTree all={r.beside} contract={contract} accepts={accepts} onEdit={onEdit} />
            </>
          )}
        </div>
      </div>
      {confirm && (
        <SecretModal
          field={confirm.field}
          onCancel={() => setConfirm(undefined)}
          onOk={(why) => {
            setConfirm(undefined);
            tick(confirm.field, confirm.class, true, why);
          }}
        />
      )}
    </>
  );
}

/** The root fields of one root type, each of which may be taken out. */
function Operations({ root, onEdit }: { root: GrantNode; onEdit: Want }) {
  return (
    <>
      {(root.grants ?? []).map((g) => (
        <div key={g.name} className="field-row">
          <span className="code">{`${root.name}.${g.name}`}</span>
          <Button
            size="small"
            type="link"
            danger
            onClick={() => onEdit({ ...placeOf(g), remove: true })}
            aria-label={`Take ${root.name}.${g.name} out`}
          >
            ✕
          </Button>
        </div>
      ))}
    </>
  );
}

function SecretModal({ field, onOk, onCancel }: { field: string; onOk: (why: string) => void; onCancel: () => void }) {
  const [why, setWhy] = useState("");
  return (
    <Modal
      title={`Grant ${field}, which is secret?`}
      open
      onCancel={onCancel}
      onOk={() => onOk(why)}
      okText="Grant it"
      okButtonProps={{ disabled: !why.trim(), danger: true }}
    >
      <Alert type="warning" showIcon title="What is secret rarely belongs into a response." className="below-12" />
      <label>
        Why it has to go out
        <Input autoFocus value={why} onChange={(e) => setWhy(e.target.value)} />
      </label>
    </Modal>
  );
}

/** How a relation may be granted: as a reference, by a shape, or with grants of its own. */
function RelationMenu({
  contract,
  entity,
  name,
  at,
  onEdit,
}: {
  contract: EditableContract;
  entity: string;
  name: string;
  at: Holder;
  onEdit: Want;
}) {
  const target = contract.entities.find((e) => e.name === entity);
  const granting = useGranting(contract, onEdit);
  const grant = (how: { reference?: string; shape?: string }) => granting(at, { relation: name, name, ...how });
  return (
    <Dropdown
      trigger={["click"]}
      menu={{
        items: [
          {
            key: "reference",
            label: "a reference",
            children: target?.fields
              .filter((f) => f.class !== "secret" && f.class !== "personal")
              .map((f) => ({ key: `r:${f.name}`, label: `by ${f.name}` })),
          },
          ...(contract.shapes.some((s) => s.entity === entity)
            ? [
                {
                  key: "shape",
                  label: "by a shape",
                  children: contract.shapes
                    .filter((s) => s.entity === entity)
                    .map((s) => ({ key: `s:${s.name}`, label: `${s.name} (${s.grants.join(", ")})` })),
                },
              ]
            : []),
          { key: "own", label: "some of its fields" },
        ],
        onClick: ({ key }) => {
          if (key === "own") grant({});
          else if (key.startsWith("r:")) grant({ reference: key.slice(2) });
          else if (key.startsWith("s:")) grant({ shape: key.slice(2) });
        },
      }}
    >
      <Button size="small" type="link" aria-label={`Grant ${name}`}>
        + {name} ▾
      </Button>
    </Dropdown>
  );
}

function GrantTree({
  all,
  contract,
  accepts,
  onEdit,
}: {
  all: GrantNode[];
  contract: EditableContract;
  accepts: boolean;
  onEdit: Want;
}) {
  return (
    <ul className="grants editing">
      {all.map((g) => (
        <li key={g.name}>
          <GrantRow g={g} contract={contract} accepts={accepts} onEdit={onEdit} />
          {g.grants && <GrantTree all={g.grants} contract={contract} accepts={accepts} onEdit={onEdit} />}
          {g.takes_members && !g.reference && (
            <AddMember
              contract={contract}
              entity={g.entity}
              taken={(g.grants ?? []).map((x) => x.name)}
              at={{ ...placeOf(g), shape: g.shape, from_shape: g.from_shape }}
              onEdit={onEdit}
            />
          )}
        </li>
      ))}
    </ul>
  );
}

function GrantRow({
  g,
  contract,
  accepts,
  onEdit,
}: {
  g: GrantNode;
  contract: EditableContract;
  accepts: boolean;
  onEdit: Want;
}) {
  const [open, setOpen] = useState(false);
  const inShape = useShape(contract);
  const words = [
    g.carries && !g.carries.endsWith(`.${g.name}`) && g.carries,
    g.by_type && "by its type",
    g.optional && !g.of_type && !g.by_type && "optional",
    g.own && "own records only",
    g.many && "list",
    g.open && "open",
    g.reference && "reference",
    g.max && `at most ${g.max}`,
    g.audiences && `only ${g.audiences.join(", ")}`,
    g.needed_by && `needed by ${g.needed_by.join(", ")}`,
    g.reason,
  ].filter(Boolean);
  return (
    <div className="grant-row">
      <span>
        <span className="code strong">{g.name}</span> {g.class !== "public" && <ClassMark value={g.class} />}{" "}
        <Typography.Text type="secondary">{words.join(" · ")}</Typography.Text>
        {g.shape && <Tag variant="outlined">shape {g.shape}</Tag>}
      </span>
      {g.from_shape && (
        <Tooltip title={`from the shape ${g.from_shape}, used at ${usedAt(contract, g.from_shape).join(", ")}`}>
          <Typography.Text type="secondary">
            ◇ {g.from_shape}
            {usedAt(contract, g.from_shape).length > 1 && `, ${usedAt(contract, g.from_shape).length} uses`}
          </Typography.Text>
        </Tooltip>
      )}
      {g.pointer && (
        <span className="grant-actions">
          {!g.of_type && !g.by_type && (
            <Button
              size="small"
              type="link"
              onClick={() => inShape(g, () => setOpen(true))}
              aria-label={`Change ${g.name}`}
            >
              change
            </Button>
          )}
          <Button
            size="small"
            type="link"
            danger
            onClick={() => inShape(g, () => onEdit({ ...placeOf(g), remove: true }))}
            aria-label={`Take ${g.name} out`}
          >
            ✕
          </Button>
        </span>
      )}
      {open && <GrantForm g={g} contract={contract} accepts={accepts} onClose={() => setOpen(false)} onEdit={onEdit} />}
    </div>
  );
}

/** Grants another member: a field, a relation, or something derived from fields. */
function AddMember({
  contract,
  entity,
  taken,
  at,
  onEdit,
}: {
  contract: EditableContract;
  entity?: string;
  taken: string[];
  at: Holder;
  onEdit: Want;
}) {
  const [deriving, setDeriving] = useState(false);
  const [name, setName] = useState("");
  const [from, setFrom] = useState<string[]>([]);
  const [type, setType] = useState("string");
  const granting = useGranting(contract, onEdit);
  const e = contract.entities.find((x) => x.name === entity);
  if (!e) return null;
  const fields = e.fields.filter((f) => !taken.includes(f.name) && f.class !== "secret");
  return (
    <Flex gap={4} wrap align="center" className="add-member">
      <Select
        showSearch
        size="small"
        variant="borderless"
        aria-label={`Grant a field of ${e.name}`}
        placeholder={`+ field of ${e.name}`}
        className="wide-170"
        value={null}
        onChange={(v: string | null) => {
          if (v) granting(at, { field: v });
        }}
        options={fields.map((f) => ({ value: f.name, label: `${f.name} (${f.class})` }))}
      />
      {e.relations
        .filter((r) => !taken.includes(r.name))
        .map((r) => (
          <RelationMenu key={r.name} contract={contract} entity={r.entity} name={r.name} at={at} onEdit={onEdit} />
        ))}
      <Button size="small" type="link" onClick={() => setDeriving(true)}>
        + derived
      </Button>
      <Modal
        title={`A member derived from fields of ${e.name}`}
        open={deriving}
        onCancel={() => setDeriving(false)}
        okText="Grant it"
        okButtonProps={{ disabled: !name || from.length === 0 || taken.includes(name) }}
        onOk={() => {
          granting(at, { name, derived: from, type });
          setDeriving(false);
          setName("");
          setFrom([]);
        }}
      >
        <div className="stack tight">
          <label>
            Name{" "}
            <Input
              value={name}
              onChange={(x) => setName(x.target.value)}
              status={taken.includes(name) ? "error" : undefined}
            />
          </label>
          <label>
            From the fields{" "}
            <Select
              mode="multiple"
              className="wide-full"
              value={from}
              onChange={setFrom}
              options={e.fields.map((f) => ({ value: f.name, label: `${f.name} (${f.class})` }))}
            />
          </label>
          <label>
            Type{" "}
            <Select
              className="wide-full"
              value={type}
              onChange={setType}
              options={["string", "integer", "number", "boolean"].map((t) => ({ value: t, label: t }))}
            />
          </label>
        </div>
      </Modal>
    </Flex>
  );
}
