import type { OutletStatus, SourceStatus } from "../../api/types";

/** few says whether all sources and outlets can be drawn one by one. */
export const few = (sources: SourceStatus[], outlets: OutletStatus[]) => sources.length <= 3 && outlets.length <= 18;
