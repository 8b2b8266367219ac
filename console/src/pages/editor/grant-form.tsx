import { useState } from "react";
import { Checkbox, Input, InputNumber, Modal, Select } from "antd";
import type { EditableContract, GrantNode } from "../../api/client";
import type { Want } from "./places";

/** Everything that a grant can say, except its source. */
export function GrantForm({
  g,
  contract,
  accepts,
  onClose,
  onEdit,
}: {
  g: GrantNode;
  contract: EditableContract;
  accepts: boolean;
  onClose: () => void;
  onEdit: Want;
}) {
  const [name, setName] = useState(g.name);
  const [optional, setOptional] = useState(g.optional ?? false);
  const [own, setOwn] = useState(g.own ?? false);
  const [max, setMax] = useState<number | null>(g.max ?? null);
  const [audiences, setAudiences] = useState<string[]>(g.audiences ?? []);
  const [neededBy, setNeededBy] = useState<string[]>(g.needed_by ?? []);
  const [reason, setReason] = useState(g.reason ?? "");
  const save = () => {
    onEdit({
      file: g.file!,
      pointer: g.pointer!,
      change: { name, optional, own, max: max ?? 0, audiences, needed_by: neededBy, reason: reason.trim() },
    });
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
        {!accepts && (
          <Checkbox checked={own} onChange={(e) => setOwn(e.target.checked)}>
            own records only
          </Checkbox>
        )}
        {(g.type === "string" || g.max !== undefined) && (
          <label>
            At most so many characters <InputNumber min={1} className="wide-full" value={max} onChange={setMax} />
          </label>
        )}
        {!accepts && (
          <label>
            Only for{" "}
            <Select
              mode="multiple"
              className="wide-full"
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
            className="wide-full"
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
