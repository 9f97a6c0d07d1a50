import type { Schema } from "../parts/form/schema";
import type { components } from "./schema.gen";

type Schemas = components["schemas"];

export type Status = Schemas["Status"];
export type SourceStatus = Schemas["SourceStatus"];
export type OutletStatus = Schemas["OutletStatus"];
export type TableStatus = Schemas["TableStatus"];
export type LogEntry = Schemas["LogEntry"];
export type SourceRecord = Omit<Schemas["RecordSource"], "definition"> & { definition: SourceDefinition };
/** TableRule and SourceDefinition leave out what has a default. */
export type TableRule = Partial<Schemas["TableRule"]> & { match: string };
export type SourceDefinition = Partial<Omit<Schemas["Source"], "connection" | "tables">> & {
  connection: Partial<Schemas["Connection"]> & Pick<Schemas["Connection"], "host" | "database" | "user">;
  tables: TableRule[];
};
export type ColumnRule = Schemas["ColumnRule"];
export type SourceTable = Schemas["Table"];
export type Check = Schemas["Check"];
export type SchemaVersion = Schemas["SchemaVersion"];
export type ColumnDiff = Schemas["ColumnDiff"];

/** TrialLine is one line of a trial's answer. */
export interface TrialLine {
  ready?: boolean;
  event?: {
    sequence: string;
    time: string;
    data: { operation: string; table?: string; key?: Record<string, unknown> | null; after?: Record<string, unknown> | null; before?: Record<string, unknown> | null; changed?: string[] };
  };
  counts?: { table: string; operation: string; events: number }[];
  done?: boolean;
  problem?: { detail?: string; fix?: string };
}

export type Outlet = Partial<Schemas["Outlet"]> & { source: string };
export type OutletRecord = Omit<Schemas["RecordOutlet"], "definition"> & { definition: Outlet };
/** Kind is a kind of destination, with the schemas of what is defined of it. */
export type Kind = Omit<Schemas["Kind"], "settings" | "outlet"> & { settings?: Schema; outlet: Schema };
export type Engine = Omit<Schemas["Engine"], "connection" | "source"> & { connection: Schema; source: Schema };
export type Destination = Partial<Schemas["Destination"]> & { kind: Schemas["Destination"]["kind"] };
export type DestinationRecord = Omit<Schemas["RecordDestination"], "definition"> & { definition: Destination };
export type OutletHistory = Schemas["OutletHistory"];
export type Preview = Schemas["Preview"];
export type LetterPage = Schemas["LetterPage"];
export type OpenLetter = Schemas["OpenLetter"];
export type Mark = Schemas["Mark"];
export type ScriptRun = Omit<Schemas["ScriptRun"], "definition"> & { definition?: SourceDefinition };
export type Scripts = Schemas["Scripts"];
export type Rewind = Schemas["Rewind"];
