import { Button, Flex, Modal } from "antd";
import { useEffect } from "react";
import { useBlocker } from "react-router";
import { keepWorking, workingOf } from "../../shared/working";

/** Asks before somebody leaves changes that are not saved, to another page or with the tab. */
export function Leaving({ service, changed }: { service: string; changed: boolean }) {
  // what was just saved or discarded is asked after no more, though it is still being drawn
  const unsaved = () => changed && workingOf(service) !== undefined;
  const blocker = useBlocker(
    ({ currentLocation, nextLocation }) => unsaved() && currentLocation.pathname !== nextLocation.pathname,
  );
  useEffect(() => {
    const ask = (e: BeforeUnloadEvent) => {
      if (changed && workingOf(service) !== undefined) e.preventDefault();
    };
    window.addEventListener("beforeunload", ask);
    return () => window.removeEventListener("beforeunload", ask);
  }, [service, changed]);
  if (blocker.state !== "blocked") return null;
  return (
    <Modal
      open
      title="The changes are not saved"
      onCancel={() => blocker.reset()}
      footer={
        <Flex gap={8} justify="end" wrap>
          <Button onClick={() => blocker.reset()}>Stay</Button>
          <Button
            danger
            onClick={() => {
              keepWorking(service, undefined);
              blocker.proceed();
            }}
          >
            Discard and leave
          </Button>
          <Button type="primary" onClick={() => blocker.proceed()}>
            Leave, and keep them
          </Button>
        </Flex>
      }
    >
      They are kept in this tab of the browser until they are saved or discarded: come back to go on.
    </Modal>
  );
}
