import { useQueryClient } from "@tanstack/react-query";
import { App } from "antd";
import { useCallback } from "react";
import { useNavigate } from "react-router";
import { type Revision } from "../api/client";
import { useFailed } from "./states";
import { changed } from "../api/keys";

/** After a change of contracts was sent: tell its state, and mark what it changed as stale. */
export function useRevisionMade() {
  const { message, notification } = App.useApp();
  const queries = useQueryClient();
  const navigate = useNavigate();
  const made = useCallback(
    (r: Revision) => {
      void changed(queries, "contracts");
      if (r.state === "waiting") {
        notification.info({
          title: `Revision ${r.number} waits for a second person`,
          description: `It lets more of what is ${r.reaches} out. Somebody else who is lead or administrator has to approve it.`,
          onClick: () => navigate(`/contracts/${r.service}/revisions/${r.number}`),
          duration: 12,
        });
      } else if (r.changed) void message.success(`Revision ${r.number} is in force`);
      else void message.info("Nothing changed");
    },
    [message, notification, navigate, queries],
  );
  return { made, failed: useFailed() };
}
