import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Button } from "react-bootstrap";
import { useNavigate, useParams } from "react-router-dom";
import { answered, api, useOutlet } from "../../api/client";
import { useOutletStatus } from "../../api/status";
import type { OutletStatus } from "../../api/types";
import { Figure } from "../../parts/Figure";
import { Ask } from "../../parts/Ask";
import { LogTab } from "../../parts/LogTab";
import { count, localMoment, rate, span } from "../../parts/numbers";
import { incompleteWords, mostNamed, outletState } from "../../parts/attention";
import { StateMark } from "../../parts/StateMark";
import { Tabs } from "../../parts/Tabs";
import { Trouble } from "../../parts/Trouble";
import { useWork } from "../../parts/work";
import { CutoverTab } from "./CutoverTab";
import { DefinitionTab } from "./DefinitionTab";
import { LettersTab } from "./LettersTab";
import { LoadDialog } from "./LoadDialog";
import { LiveTab } from "./LiveTab";
import { NowTab } from "./NowTab";
import { RewindDialog } from "./RewindDialog";
import { VerifyTab } from "./VerifyTab";

/** OutletPage is one outlet: how it stands, and all that can be done with it. */
export function OutletPage() {
  const { name = "", tab = "" } = useParams();
  const outlet = useOutletStatus(name);
  const { data: record, error } = useOutlet(name);
  if (error) {
    return <Trouble error={error} />;
  }
  if (!outlet || !record) {
    return <p aria-busy="true">Looking …</p>;
  }
  return (
    <>
      <Head outlet={outlet} patterns={record.definition.tables ?? []} />
      <Tabs
        label="Parts of the outlet"
        base={`/outlets/${name}`}
        tabs={[
          ["", "Now"],
          ["live", "Live"],
          ["dead-letters", outlet.dead_letters > 0 ? `Dead letters (${count(outlet.dead_letters)})` : "Dead letters"],
          ...(record.definition.format === "table"
            ? ([
                ["verify", "Verify"],
                ["cutover", "Cut over"],
              ] as const)
            : []),
          ["definition", "Definition"],
          ["log", "Log"],
        ]}
      />
      {tab === "" && <NowTab outlet={outlet} />}
      {tab === "live" && <LiveTab name={name} />}
      {tab === "dead-letters" && <LettersTab outlet={outlet} />}
      {tab === "verify" && <VerifyTab outlet={outlet} />}
      {tab === "cutover" && <CutoverTab outlet={outlet} />}
      {tab === "definition" && <DefinitionTab record={record} kind={outlet.kind} />}
      {tab === "log" && <LogTab subject={`outlet/${name}`} changed={`${outlet.phase}${outlet.code}${outlet.dead_letters}${outlet.run}`} />}
    </>
  );
}

function Head({ outlet, patterns }: { outlet: OutletStatus; patterns: string[] }) {
  const [asks, setAsks] = useState<"" | "load" | "pause" | "remove" | "rewind">("");
  const { trouble, work } = useWork();
  const client = useQueryClient();
  const navigate = useNavigate();
  const path = { name: outlet.name };
  const act = (call: () => Promise<unknown>) => {
    setAsks("");
    return work(async () => {
      await call();
      await client.invalidateQueries({ queryKey: ["outlet", outlet.name] });
    });
  };
  const stopped = outlet.phase === "paused";
  return (
    <section aria-label={`Outlet ${outlet.name}`} className="source-head">
      <div className="page-head">
        <h1>{outlet.name}</h1>
        <StateMark
          state={outletState(outlet)}
          word={
            outletState(outlet) === "incomplete" ? "incomplete" : outlet.phase === "pull" ? "pull, consumers read" : outlet.until ? `running once, up to offset ${count(outlet.until)}` : outlet.phase
          }
        />
        <span className="note">
          of {outlet.source}
          {outlet.destination && ` to ${outlet.kind} ${outlet.destination}`}
        </span>
        <div className="actions">
          {outlet.held_at ? (
            <Button size="sm" onClick={() => act(() => answered(api.POST("/v1/outlets/{name}/resume", { params: { path }, body: { let_pass: outlet.held_at } })))}>
              Let the change pass
            </Button>
          ) : stopped || outlet.phase === "failed" ? (
            <Button size="sm" onClick={() => act(() => answered(api.POST("/v1/outlets/{name}/resume", { params: { path }, body: { reason: "" } })))}>
              Resume
            </Button>
          ) : (
            <Button size="sm" variant="outline-secondary" onClick={() => setAsks("pause")}>
              Pause
            </Button>
          )}
          {stopped && outlet.destination && (
            <Button size="sm" variant="outline-secondary" disabled={outlet.behind_events === 0} onClick={() => act(() => answered(api.POST("/v1/outlets/{name}/run", { params: { path } })))}>
              Run once
            </Button>
          )}
          <Button size="sm" variant="outline-secondary" onClick={() => setAsks("rewind")}>
            Rewind …
          </Button>
          <Button size="sm" variant="outline-secondary" onClick={() => setAsks("load")}>
            Load …
          </Button>
          <Button size="sm" variant="outline-secondary" onClick={() => setAsks("remove")}>
            Remove …
          </Button>
        </div>
      </div>
      {stopped && outlet.reason && <p className="note">{outlet.reason}</p>}
      <dl className="figures">
        <Figure name="committed" value={count(outlet.committed)} />
        {outlet.reported !== undefined && <Figure name="reported" value={count(outlet.reported)} />}
        <Figure name="behind" value={outlet.behind_events === 0 ? "0" : `${count(outlet.behind_events)} · ${span(outlet.behind_seconds)}`} />
        <Figure name="events/s" value={rate(outlet.rate)} />
        <Figure name="commit → delivery" value={outlet.delay_seconds === undefined ? "–" : span(outlet.delay_seconds)} />
        <Figure name="delivered" value={count(outlet.delivered)} />
        <Figure name="dead letters" value={count(outlet.dead_letters + outlet.waiting_behind)} />
        <Figure name="run" value={String(outlet.run)} />
      </dl>
      {outlet.error && (
        <p className="trouble" role="alert">
          {outlet.error}
          {outlet.retry_at && (
            <span className="fix">
              {" "}
              Tried {count(outlet.attempts ?? 0)} times; again at {localMoment(outlet.retry_at)}. Nothing is dropped meanwhile.
            </span>
          )}
        </p>
      )}
      {!!outlet.incomplete?.length && (
        <div className="trouble" role="alert">
          {incompleteWords(outlet)}. The others go on.
          <ul>
            {outlet.incomplete.slice(0, mostNamed).map((t) => (
              <li key={t.table + t.code}>
                <strong>{t.table}</strong>
                {t.offset ? `, held at offset ${count(t.offset)}` : ""}: {t.why}.{t.fix && <span className="fix"> Fix: {t.fix}.</span>}
              </li>
            ))}
          </ul>
        </div>
      )}
      {!!outlet.loads?.length && (
        <p className="note" role="status">
          Loading for this outlet alone: {outlet.loads.map((l) => (l.begun ? `${l.table}, ${count(l.rows)} of about ${count(Math.max(l.rows, l.rows_estimate))} rows` : `${l.table} waits`)).join("; ")}
          .
        </p>
      )}
      {!!outlet.unmatched?.length && (
        <p className="trouble" role="alert">
          No table of {outlet.source} matches {outlet.unmatched.join(" or ")}: its definition may have a slip, or the table is yet to come.
        </p>
      )}
      {outlet.retention && outlet.retention.level !== "fine" && (
        <p className="trouble" role="alert">
          {outlet.retention.level === "lost"
            ? "Retention has removed events that this outlet has not delivered; the tab Now says which."
            : `What is not delivered has used up ${Math.round(outlet.retention.used * 100)} % of the journal's limit: soon retention removes it.`}
        </p>
      )}
      <Trouble error={trouble} />
      <Ask
        show={asks === "pause"}
        title={`Pause ${outlet.name}`}
        text="Its offset stays where it is, and the journal keeps its events as long as it keeps any."
        word="Pause"
        wantsReason
        onNo={() => setAsks("")}
        onYes={(reason) => void act(() => answered(api.POST("/v1/outlets/{name}/pause", { params: { path }, body: { reason } })))}
      />
      <Ask
        show={asks === "remove"}
        title={`Remove ${outlet.name}`}
        text="The outlet goes with its offset and its dead letters; what it has delivered stays where it is."
        word="Remove"
        onNo={() => setAsks("")}
        onYes={async () => {
          if (await act(() => answered(api.DELETE("/v1/outlets/{name}", { params: { path } })))) {
            navigate("/outlets");
          }
        }}
      />
      {asks === "load" && <LoadDialog outlet={outlet} patterns={patterns} onClose={() => setAsks("")} />}
      {asks === "rewind" && <RewindDialog outlet={outlet} onClose={() => setAsks("")} />}
    </section>
  );
}
