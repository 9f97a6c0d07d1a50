import { memo } from "react";
import type { OutletStatus, SourceStatus } from "../../api/types";
import { Link } from "react-router-dom";
import { Figure } from "../../parts/Figure";
import { bytes, count, localMoment, rate, span } from "../../parts/numbers";
import { outletState } from "../../parts/attention";
import { StateMark } from "../../parts/StateMark";
import { JournalLine } from "./JournalLine";
import { RateChart } from "./RateChart";

/** Flow is one source's way from left to right: source, journal, outlets. */
export function Flow({ source, outlets }: { source: SourceStatus; outlets: OutletStatus[] }) {
  return (
    <div className="flow">
      <div className="flow-node">
        <h2>
          <span className="kind">source</span> <Link to={`/sources/${source.name}`}>{source.name}</Link>
        </h2>
        <StateMark state={source.phase} word={source.doing ? `${source.phase}, ${source.doing}` : source.phase} />
        {source.phase === "paused" && source.reason && <p className="note">{source.reason}</p>}
        <dl className="figures">
          <Figure name="database" value={`${source.database}`} />
          <Figure name="engine" value={source.engine} />
          <Figure name="events/s" value={rate(source.rate)} strong />
          <Figure name="commit → journal" value={source.delay_seconds === undefined ? "–" : span(source.delay_seconds)} strong />
        </dl>
        {source.retained_log && source.retained_log.level !== "fine" && <Trouble text={`The source keeps ${bytes(source.retained_log.bytes)} of its log for us: ${source.retained_log.advice}`} />}
        {source.error && <Trouble text={source.error} />}
      </div>
      <FlowArrow moving={source.phase === "running"} />
      <div className="flow-node flow-journal">
        <h2>
          <span className="kind">journal</span> {count(source.journal.events)} events
        </h2>
        <RateChart rates={source.rates} />
        <JournalLine source={source.name} journal={source.journal} outlets={outlets} />
        <dl className="figures">
          <Figure name="next offset" value={count(source.journal.next)} />
          <Figure name="on disk" value={bytes(source.journal.bytes)} />
          <Figure name="newest commit" value={source.last_commit ? localMoment(source.last_commit) : "–"} title={source.last_commit} />
        </dl>
      </div>
      <FlowArrow moving={outlets.some((outlet) => outlet.rate > 0)} />
      <div className="flow-outlets">
        {outlets.length === 0 && (
          <div className="flow-node quiet">
            <h2>
              <span className="kind">outlets</span> none
            </h2>
            <p className="note">
              Nobody takes these events yet. <Link to="/outlets/new">Add an outlet</Link>
            </p>
          </div>
        )}
        {outlets.map((outlet) => (
          <OutletNode key={outlet.name} outlet={outlet} />
        ))}
      </div>
    </div>
  );
}

const OutletNode = memo(function OutletNode({ outlet }: { outlet: OutletStatus }) {
  return (
    <div className={outlet.phase === "waiting" || outlet.phase === "failed" ? "flow-node stalled" : "flow-node"}>
      <div className="outlet-line">
        <h2>
          <Link to={`/outlets/${outlet.name}`}>{outlet.name}</Link>
        </h2>
        <StateMark state={outletState(outlet)} />
        <span className="to">{outlet.destination ? `${outlet.kind} ${outlet.destination}` : "consumers read"}</span>
      </div>
      {outlet.phase === "paused" && outlet.reason && <p className="note">{outlet.reason}</p>}
      <dl className="figures">
        <Figure name="behind" value={outlet.behind_events === 0 ? "0" : `${count(outlet.behind_events)} · ${span(outlet.behind_seconds)}`} strong />
        <Figure name="events/s" value={rate(outlet.rate)} />
        {outlet.destination && <Figure name="commit → delivery" value={outlet.delay_seconds === undefined ? "–" : span(outlet.delay_seconds)} />}
      </dl>
      {outlet.dead_letters > 0 && (
        <p className="trouble">
          <Link to={`/outlets/${outlet.name}/dead-letters`}>{count(outlet.dead_letters)} dead letters</Link>
          {outlet.waiting_behind > 0 && `, ${count(outlet.waiting_behind)} events behind them`}
        </p>
      )}
      {outlet.verified && (
        <p className={outlet.verified.equal ? "note" : "trouble"}>
          <Link to={`/outlets/${outlet.name}/verify`}>{outlet.verified.equal ? "Equal" : "Not equal"}</Link> to the source, {localMoment(outlet.verified.at)}
        </p>
      )}
      {outlet.error && <Trouble text={outlet.error} />}
    </div>
  );
});

function Trouble({ text }: { text: string }) {
  return (
    <p className="trouble" role="alert">
      {text}
    </p>
  );
}

function FlowArrow({ moving }: { moving: boolean }) {
  return (
    <svg className={moving ? "flow-arrow moving" : "flow-arrow"} viewBox="0 0 32 16" aria-hidden="true">
      <path d="M0 8h24" />
      <path d="M22 3l6 5-6 5" />
    </svg>
  );
}
