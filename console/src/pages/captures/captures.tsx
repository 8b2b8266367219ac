import { useAddress } from "../../shared/address";
import { Batches } from "./batches";
import { CaptureList, filters } from "./list";

/** Batches, or single captures where the address says so. */
export default function Captures() {
  const { get } = useAddress();
  return filters.some((f) => get(f)) ? <CaptureList /> : <Batches />;
}
