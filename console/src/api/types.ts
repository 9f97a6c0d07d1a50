import type { components } from "./schema.gen";

type Schemas = components["schemas"];

export type Status = Schemas["Status"];
export type SourceStatus = Schemas["SourceStatus"];
export type OutletStatus = Schemas["OutletStatus"];
export type TableStatus = Schemas["TableStatus"];
export type LogEntry = Schemas["LogEntry"];
