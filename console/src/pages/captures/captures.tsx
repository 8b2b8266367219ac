import { useAddress } from "../../shared/address";
import { Batches } from "./batches";
import { CaptureList, filters } from "./list";

/** What came in, by batch; or single captures, where the address says which. */
export default function Captures() {
  const { get } = useAddress();
  return filters.some((f) => get(f)) ? <CaptureList /> : <Batches />;
}
