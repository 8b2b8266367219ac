import { useQuery } from "@tanstack/react-query";
import { Select } from "antd";
import { api, take } from "../api/client";
import { useAddress } from "./address";
import { keys } from "../api/keys";

/** The services, and the one that the address names, else the first. */
export function useService() {
  const { get } = useAddress();
  const services = useQuery({ queryKey: keys.services(), queryFn: () => take(api.GET("/api/v1/services")) });
  const named = get("service");
  const service = services.data?.find((s) => s.name === named) ?? (named ? undefined : services.data?.[0]);
  return { services, service, name: service?.name ?? "" };
}

/** A choice among several services; nothing when there is only one. */
export function ServicePicker() {
  const { services, name } = useService();
  const { set } = useAddress();
  if (!services.data || services.data.length < 2) return null;
  return (
    <Select
      aria-label="Service"
      className="least-180"
      value={name || undefined}
      onChange={(service) => set({ service })}
      options={services.data.map((s) => ({ value: s.name, label: s.name }))}
    />
  );
}
