import { App, Button } from "antd";
import type { EditableContract, GrantNode, Intent } from "../../api/client";
import { Code } from "../../shared/tags";
import { placeOf, type Place, type Want } from "./places";

/** The endpoints and shapes that use a shape. */
export function usedAt(contract: EditableContract, shape: string): string[] {
  return contract.shapes.find((s) => s.name === shape)?.used_at ?? [];
}

function Uses({ all }: { all: string[] }) {
  return (
    <ul className="plain">
      {all.slice(0, 12).map((u) => (
        <li key={u}>
          <Code>{u}</Code>
        </li>
      ))}
      {all.length > 12 && <li>{`and ${all.length - 12} more`}</li>}
    </ul>
  );
}

/** Does something to a grant; where it is a shape's that others use, it says so and asks first. */
export function useShape(contract: EditableContract) {
  const { modal } = App.useApp();
  return (g: Pick<GrantNode, "name" | "from_shape">, act: () => void) => {
    const uses = g.from_shape ? usedAt(contract, g.from_shape) : [];
    if (uses.length < 2) return act();
    modal.confirm({
      title: `Change the shape ${g.from_shape}?`,
      content: (
        <>
          {g.name} is granted by the shape. What you change there changes for all that use it:
          <Uses all={uses} />
        </>
      ),
      okText: "Change it for all",
      cancelText: "Leave",
      onOk: act,
    });
  };
}

/** Where a member is added: a response or grant, whose grants a shape may give, and which may itself be a shape's. */
export type Holder = Place & Pick<GrantNode, "shape" | "from_shape">;

/** Grants a member. Where a shape says what goes out it stands in the shape, or beside it here: others use it too, so
 * it asks. */
export function useGranting(contract: EditableContract, onEdit: Want) {
  const { modal } = App.useApp();
  const inShape = useShape(contract);
  return (at: Holder, grant: NonNullable<Intent["grant"]>) => {
    const name = grant.name ?? grant.field ?? grant.relation ?? "";
    const shape = contract.shapes.find((s) => s.name === at.shape);
    const within = () => onEdit({ ...placeOf(shape!), grant });
    const beside = () =>
      inShape({ name, from_shape: at.from_shape }, () => onEdit({ file: at.file, pointer: at.pointer, grant }));
    if (!shape?.pointer) return beside();
    if (shape.used_at.length < 2) return within();
    const asked = modal.confirm({
      title: `Grant ${name} by the shape ${shape.name}?`,
      content: (
        <>
          The shape is used at these places, and all of them would grant it:
          <Uses all={shape.used_at} />
        </>
      ),
      okText: "By the shape, for all",
      cancelText: "Leave",
      onOk: within,
      footer: (_, { OkBtn, CancelBtn }) => (
        <>
          <CancelBtn />
          <Button
            onClick={() => {
              asked.destroy();
              beside();
            }}
          >
            Only here
          </Button>
          <OkBtn />
        </>
      ),
    });
  };
}
