import { useMutation, useQueries, useQuery, useQueryClient } from "@tanstack/react-query";
import { Alert, App, Button } from "antd";
import { api, take } from "../../api/client";
import { changed, keys } from "../../api/keys";
import { count } from "../../shared/format";
import { useFailed } from "../../shared/states";
import { Code } from "../../shared/tags";

/** Endpoints without a contract that look like one: a press makes them one, with their findings. */
export default function AlikeEndpoints() {
  const queries = useQueryClient();
  const failed = useFailed();
  const { message } = App.useApp();
  const services = useQuery({ queryKey: keys.services(), queryFn: () => take(api.GET("/api/v1/services")) });
  const found = useQueries({
    queries: (services.data ?? []).map((s) => ({
      queryKey: keys.alike(s.name),
      queryFn: () => take(api.GET("/api/v1/services/{service}/alike", { params: { path: { service: s.name } } })),
      staleTime: 60_000,
    })),
    combine: (results) =>
      results.flatMap((r, i) => (r.data ?? []).map((a) => ({ ...a, service: services.data?.[i]?.name ?? "" }))),
  });
  const make = useMutation({
    mutationFn: (of: { service: string; endpoint: string }) =>
      take(
        api.POST("/api/v1/services/{service}/alike", {
          params: { path: { service: of.service } },
          body: { endpoint: of.endpoint },
        }),
      ),
    onSuccess: (r, of) => {
      void changed(queries, "contracts");
      void message.success(`${of.endpoint} is one endpoint since revision ${r.number}. It grants nothing yet.`);
    },
    onError: failed,
  });
  return (
    <>
      {found.map((a) => (
        <Alert
          key={a.service + a.endpoint}
          type="info"
          showIcon
          className="below-8"
          title={
            <>
              {`${a.endpoints.length} addresses`} without a contract look like one endpoint: <Code>{a.endpoint}</Code>
            </>
          }
          description={
            <details>
              <summary>{`${a.service}, ${count(a.captures, "capture")}`}</summary>
              <ul className="plain">
                {a.endpoints.slice(0, 20).map((e) => (
                  <li key={e}>
                    <Code>{e}</Code>
                  </li>
                ))}
                {a.endpoints.length > 20 && <li>{`and ${a.endpoints.length - 20} more`}</li>}
              </ul>
            </details>
          }
          action={
            <Button
              size="small"
              loading={make.isPending && make.variables?.endpoint === a.endpoint}
              aria-label={`They are one endpoint: ${a.endpoint}`}
              onClick={() => make.mutate(a)}
            >
              They are one endpoint
            </Button>
          }
        />
      ))}
    </>
  );
}
