import { useQuery } from "@tanstack/react-query";
import { Flex, Select, Typography } from "antd";
import { useMemo } from "react";
import { api, take, type ClassOrNone } from "../../api/client";
import { useAddress } from "../../shared/address";
import { classes } from "../../shared/classes";
import { count } from "../../shared/format";
import { ServicePicker, useService } from "../../shared/service";
import { Heading } from "../../shared/shell";
import { Empty, Failed, Loading } from "../../shared/states";
import { Grid } from "./grid";
import { keys } from "../../api/keys";

/** Entity fields against endpoints and audiences: what is granted, what leaks, what was never seen, what is withheld. */
export default function Exposure() {
  const { get, set } = useAddress();
  const { services, service, name } = useService();
  const query = {
    entity: get("entity") || undefined,
    class: (get("class") || undefined) as ClassOrNone | undefined,
    team: get("team") || undefined,
    audience: get("audience") || undefined,
  };
  const map = useQuery({
    queryKey: keys.exposure(name, query),
    queryFn: () => take(api.GET("/api/v1/services/{service}/exposure", { params: { path: { service: name }, query } })),
    enabled: name !== "",
  });
  const whole = useQuery({
    queryKey: keys.exposure(name, {}),
    queryFn: () => take(api.GET("/api/v1/services/{service}/exposure", { params: { path: { service: name } } })),
    enabled: name !== "",
  });
  const entities = useMemo(() => [...new Set(whole.data?.rows.map((r) => r.entity))], [whole.data]);
  const teams = useMemo(
    () => [...new Set(whole.data?.columns.map((c) => c.team).filter((t) => t !== undefined))].sort(),
    [whole.data],
  );
  if (services.isPending) return <Loading what="the services" />;
  if (services.error) return <Failed error={services.error} again={() => services.refetch()} />;
  if (!name) return <Empty title="No service yet">Apply a contract, or read what is stored.</Empty>;
  const choose = (label: string, key: string, options: string[]) => (
    <Select
      allowClear
      showSearch
      aria-label={label}
      placeholder={label}
      className="least-150"
      value={get(key) || undefined}
      onChange={(v?: string) => set({ [key]: v ?? "" })}
      options={options.map((o) => ({ value: o, label: o }))}
    />
  );
  return (
    <>
      <Heading
        title="Exposure map"
        aside={
          map.data && (
            <Typography.Text type="secondary">
              {count(map.data.rows.length, "field")} × {count(map.data.columns.length, "column")}
            </Typography.Text>
          )
        }
      >
        Exposure map
      </Heading>
      <Flex gap={8} wrap role="search" aria-label="Filters" className="below-10">
        <ServicePicker />
        {choose("Entity", "entity", entities)}
        {choose("Class", "class", classes)}
        {choose("Team", "team", teams)}
        {choose("Audience", "audience", service?.audiences ?? [])}
      </Flex>
      {map.isPending && <Loading what="the map" />}
      {map.error && <Failed error={map.error} again={() => map.refetch()} />}
      {map.data &&
        (map.data.rows.length && map.data.columns.length ? (
          <Grid service={name} map={map.data} />
        ) : (
          <Empty title="Nothing to show">No field or endpoint fits these filters.</Empty>
        ))}
    </>
  );
}
