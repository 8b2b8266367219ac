import { App } from "antd";
import type { EditableContract, GrantNode } from "../../api/client";
import { Code } from "../../shared/tags";

/** The endpoints and shapes that use a shape. */
export function usedAt(contract: EditableContract, shape: string): string[] {
  return contract.shapes.find((s) => s.name === shape)?.used_at ?? [];
}

/** Does something to a grant; where it is a shape's that others use, it says so and asks first. */
export function useShape(contract: EditableContract) {
  const { modal } = App.useApp();
  return (g: GrantNode, act: () => void) => {
    const uses = g.from_shape ? usedAt(contract, g.from_shape) : [];
    if (uses.length < 2) return act();
    modal.confirm({
      title: `Change the shape ${g.from_shape}?`,
      content: (
        <>
          {g.name} is granted by the shape. What you change there changes for all that use it:
          <ul className="plain">
            {uses.slice(0, 12).map((u) => (
              <li key={u}>
                <Code>{u}</Code>
              </li>
            ))}
            {uses.length > 12 && <li>{`and ${uses.length - 12} more`}</li>}
          </ul>
        </>
      ),
      okText: "Change it for all",
      cancelText: "Leave",
      onOk: act,
    });
  };
}
