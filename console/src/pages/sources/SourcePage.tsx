import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Button } from "react-bootstrap";
import { useNavigate, useParams } from "react-router-dom";
import { answered, api, useSource } from "../../api/client";
import { useOutlets, useSourceStatus } from "../../api/status";
import type { SourceStatus } from "../../api/types";
import { Figure } from "../../parts/Figure";
import { bytes, count, localMoment, span } from "../../parts/numbers";
import { LogTab } from "../../parts/LogTab";
import { StateMark } from "../../parts/StateMark";
import { Tabs } from "../../parts/Tabs";
import { Trouble } from "../../parts/Trouble";
import { useWork } from "../../parts/work";
import { Ask } from "../../parts/Ask";
import { ChecksTab } from "./ChecksTab";
import { ImpactTab } from "./ImpactTab";
import { MarksTab } from "./MarksTab";
import { RulesTab } from "./RulesTab";
import { TablesTab } from "./TablesTab";
import { VersionsTab } from "./VersionsTab";

const tabs = [
  ["", "Tables"],
  ["rules", "Rules"],
  ["checks", "Checks"],
  ["versions", "Versions"],
  ["impact", "Impact"],
  ["marks", "Marks"],
  ["log", "Log"],
] as const;

/** SourcePage is one source: how it stands, and all that can be done with it. */
export function SourcePage() {
  const { name = "", tab = "" } = useParams();
  const source = useSourceStatus(name);
  const outlets = useOutlets();
  const { data: record, error } = useSource(name);
  if (error) {
    return <Trouble error={error} />;
  }
  if (!source || !record) {
    return <p aria-busy="true">Looking …</p>;
  }
  return (
    <>
      <Head source={source} />
      <Tabs label="Parts of the source" base={`/sources/${name}`} tabs={tabs} />
      {tab === "" && <TablesTab source={source} />}
      {tab === "rules" && <RulesTab record={record} />}
      {tab === "checks" && <ChecksTab name={name} />}
      {tab === "versions" && <VersionsTab name={name} changed={source.journal.generation + source.tables.map((t) => t.counts.schema ?? 0).join()} />}
      {tab === "impact" && <ImpactTab name={name} />}
      {tab === "marks" && <MarksTab source={source} outlets={outlets?.filter((o) => o.source === name) ?? []} />}
      {tab === "log" && <LogTab subject={`source/${name}`} changed={`${source.phase}${source.doing}${source.code}`} />}
    </>
  );
}

function Head({ source }: { source: SourceStatus }) {
  const [asks, setAsks] = useState<"" | "pause" | "remove" | "reset">("");
  const { trouble, work } = useWork();
  const client = useQueryClient();
  const navigate = useNavigate();
  const path = { name: source.name };
  const act = (call: () => Promise<unknown>) => {
    setAsks("");
    return work(async () => {
      await call();
      await client.invalidateQueries({ queryKey: ["source", source.name] });
    });
  };
  const held = source.retained_log;
  return (
    <section aria-label={`Source ${source.name}`} className="source-head">
      <div className="page-head">
        <h1>{source.name}</h1>
        <StateMark state={source.phase} word={source.doing ? `${source.phase}, ${source.doing}` : source.phase} />
        {source.since && <span className="note">since {localMoment(source.since)}</span>}
        <div className="actions">
          {source.phase === "paused" || source.phase === "failed" ? (
            <Button size="sm" onClick={() => act(() => answered(api.POST("/v1/sources/{name}/resume", { params: { path }, body: { reason: "" } })))}>
              {source.journal.events === 0 ? "Start" : "Resume"}
            </Button>
          ) : (
            <Button size="sm" variant="outline-secondary" onClick={() => setAsks("pause")}>
              Pause
            </Button>
          )}
          {source.phase === "failed" && (
            <Button size="sm" variant="outline-secondary" onClick={() => setAsks("reset")}>
              Begin anew
            </Button>
          )}
          <Button size="sm" variant="outline-secondary" onClick={() => setAsks("remove")}>
            Remove
          </Button>
        </div>
      </div>
      {source.phase === "paused" && source.reason && <p className="note">{source.reason}</p>}
      {source.error && <Trouble error={source.error} />}
      <Trouble error={trouble} />
      <dl className="figures">
        <Figure name="database" value={source.database} />
        <Figure name="position in its log" value={source.position ?? "–"} />
        <Figure name="next offset" value={count(source.journal.next)} />
        <Figure name="generation" value={count(source.journal.generation)} />
        <Figure name="commit → journal" value={source.delay_seconds === undefined ? "–" : span(source.delay_seconds)} />
        <Figure name="newest commit" value={source.last_commit ? localMoment(source.last_commit) : "–"} />
        <div>
          <dt>log retained</dt>
          <dd>{held ? <StateMark state={held.level} word={bytes(held.bytes) + (held.limit ? ` of at most ${bytes(held.limit)}` : "")} /> : "–"}</dd>
        </div>
        {held?.spilled ? <Figure name="spilled to the source's disk" value={bytes(held.spilled)} /> : null}
      </dl>
      {held?.advice && <Trouble error={held.advice} />}
      <Ask
        show={asks === "pause"}
        title={`Pause ${source.name}?`}
        text="The source keeps its log for us meanwhile: a long pause can fill its disk."
        word="Pause"
        wantsReason
        onNo={() => setAsks("")}
        onYes={(reason) => act(() => answered(api.POST("/v1/sources/{name}/pause", { params: { path }, body: { reason } })))}
      />
      <Ask
        show={asks === "reset"}
        title={`Begin ${source.name} anew?`}
        text="A new slot is made and all tables are loaded again. Old events are kept; ids carry the next generation from there. What the source wrote in between, and has changed again since, is in no event."
        word="Begin anew"
        wantsReason
        onNo={() => setAsks("")}
        onYes={(reason) => act(() => answered(api.POST("/v1/sources/{name}/reset", { params: { path }, body: { reason } })))}
      />
      <Ask
        show={asks === "remove"}
        title={`Remove ${source.name}?`}
        text="Its journal goes, with all events, and so do the slot and the publications that were made on its database. Its outlets have to be removed first."
        word="Remove"
        option="Leave its database alone: it is gone, or cannot be reached. What was made there stays, and a slot that stays fills its disk."
        onNo={() => setAsks("")}
        onYes={async (_, forget) => {
          if (await act(() => answered(api.DELETE("/v1/sources/{name}", { params: { path, query: { forget } } })))) {
            navigate("/sources");
          }
        }}
      />
    </section>
  );
}
