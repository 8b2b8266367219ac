import { useState } from "react";
import { Checkbox, Input, InputNumber, Modal, Select } from "antd";
import type { EditableContract, GrantNode, PatchOp } from "../../api/client";
import { changeOps, without, type Written } from "./ops";

/** All that may be said of one grant, save what it carries. */
export function GrantForm({
  g,
  contract,
  accepts,
  longForm,
  onClose,
  onEdit,
}: {
  g: GrantNode;
  contract: EditableContract;
  accepts: boolean;
  longForm: Written;
  onClose: () => void;
  onEdit: (ops: PatchOp[]) => void;
}) {
  const [name, setName] = useState(g.name);
  const [optional, setOptional] = useState(g.optional ?? false);
  const [max, setMax] = useState<number | null>((longForm.max as number | undefined) ?? null);
  const [audiences, setAudiences] = useState<string[]>((longForm.audiences as string[] | undefined) ?? []);
  const [neededBy, setNeededBy] = useState<string[]>(g.needed_by ?? []);
  const [reason, setReason] = useState(g.reason ?? "");
  const save = () => {
    let w = without(longForm, "optional", "max", "audiences", "needed_by", "reason");
    if (
      name !== g.name &&
      !(
        "derived" in w ||
        "external" in w ||
        "constant" in w ||
        "type" in w ||
        "grants" in w ||
        "shape" in w ||
        "reference" in w
      ) &&
      g.field &&
      !("field" in w)
    )
      w = { field: g.field, ...w };
    if (name !== g.name && g.relation && !("relation" in w)) w = { relation: g.relation, ...w };
    if (optional) w.optional = true;
    if (max) w.max = max;
    if (audiences.length) w.audiences = audiences;
    if (neededBy.length) w.needed_by = neededBy;
    if (reason.trim()) w.reason = reason.trim();
    onEdit(changeOps(g, name, w));
    onClose();
  };
  return (
    <Modal
      title={`${g.name}${g.carries ? `, carrying ${g.carries}` : ""}`}
      open
      onCancel={onClose}
      onOk={save}
      okText="Change"
      okButtonProps={{ disabled: !name }}
    >
      <div className="stack tight">
        <label>
          Name of the member <Input value={name} onChange={(e) => setName(e.target.value)} />
        </label>
        <Checkbox checked={optional} onChange={(e) => setOptional(e.target.checked)}>
          may be absent
        </Checkbox>
        {(g.type === "string" || g.max !== undefined) && (
          <label>
            At most so many characters <InputNumber min={1} style={{ width: "100%" }} value={max} onChange={setMax} />
          </label>
        )}
        {!accepts && (
          <label>
            Only for{" "}
            <Select
              mode="multiple"
              style={{ width: "100%" }}
              value={audiences}
              onChange={setAudiences}
              placeholder="all that the response is for"
              options={contract.audiences.map((a) => ({ value: a, label: a }))}
            />
          </label>
        )}
        <label>
          Needed by{" "}
          <Select
            mode="tags"
            style={{ width: "100%" }}
            value={neededBy}
            onChange={setNeededBy}
            placeholder="who or what needs it"
            open={false}
            suffixIcon={null}
          />
        </label>
        <label>
          Why <Input value={reason} onChange={(e) => setReason(e.target.value)} />
        </label>
      </div>
    </Modal>
  );
}
