import { Button, Flex } from "antd";
import { lazy, Suspense, useState } from "react";
import { count } from "../../shared/format";

const Change = lazy(() => import("./change")); // it needs a calendar, which is large

/** Changes the selected findings, or all that match the filters, in one step, with a preview and undo. */
export function ChangeSeveral({
  chosen,
  all,
  filter,
  done,
}: {
  chosen: string[];
  all: number;
  filter: string;
  done: () => void;
}) {
  const [which, setWhich] = useState<"chosen" | "all">();
  return (
    <Flex gap={8} align="center" className="below-8" role="group" aria-label="Change several">
      <Button size="small" disabled={chosen.length === 0} onClick={() => setWhich("chosen")}>
        {chosen.length === 0 ? "Change those chosen…" : `Change ${count(chosen.length, "chosen finding")}…`}
      </Button>
      <Button size="small" onClick={() => setWhich("all")}>
        {`Change all ${all.toLocaleString()}…`}
      </Button>
      {chosen.length > 0 && (
        <Button size="small" type="text" onClick={done}>
          Choose none
        </Button>
      )}
      {which && (
        <Suspense>
          <Change
            of={which === "chosen" ? { ids: chosen } : { filter }}
            title={
              which === "chosen"
                ? `Change ${count(chosen.length, "finding")}`
                : `Change all ${count(all, "finding")} that fit`
            }
            close={(changed) => {
              setWhich(undefined);
              if (changed) done();
            }}
          />
        </Suspense>
      )}
    </Flex>
  );
}
