import type { Schema } from "../parts/form/schema";
import type { components } from "./schema.gen";

type Schemas = components["schemas"];

export type Status = Schemas["Status"];
export type SourceStatus = Schemas["SourceStatus"];
export type OutletStatus = Schemas["OutletStatus"];
export type TableStatus = Schemas["TableStatus"];
export type LogEntry = Schemas["LogEntry"];
export type SourceRecord = Schemas["RecordSource"];
export type TableRule = Schemas["TableRule"];
export type SourceDefinition = Schemas["Source"];
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

export type Outlet = Schemas["Outlet"];
export type OutletRecord = Schemas["RecordOutlet"];
/** Kind is a kind of destination, with the schemas of what is defined of it. */
export type Kind = Omit<Schemas["Kind"], "settings" | "outlet"> & { settings?: Schema; outlet: Schema };
export type Engine = Omit<Schemas["Engine"], "connection" | "source"> & { connection: Schema; source: Schema };
export type Destination = Schemas["Destination"];
export type DestinationRecord = Schemas["RecordDestination"];
/** SharedForm is a form of rows that outlets share. */
export type SharedForm = Schemas["Form"];
export type SharedFormRecord = Schemas["RecordForm"];
export type OutletHistory = Schemas["OutletHistory"];
export type TableVerdict = Schemas["TableVerdict"];
export type Verification = Schemas["Verification"];
export type CutoverReport = Schemas["CutoverReport"];
export type CutoverResult = Schemas["CutoverResult"];
export type CutoverStep = Schemas["CutoverStep"];
export type SchemaImpact = Schemas["SchemaImpact"];
export type OutletImpact = Schemas["OutletImpact"];
export type Finding = Schemas["Finding"];
export type Preview = Schemas["Preview"];
export type LetterPage = Schemas["LetterPage"];
export type OpenLetter = Schemas["OpenLetter"];
export type Mark = Schemas["Mark"];
export type ScriptRun = Schemas["ScriptRun"];
export type Scripts = Schemas["Scripts"];
export type Rewind = Schemas["Rewind"];
