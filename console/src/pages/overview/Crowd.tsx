import { memo, useMemo, useState } from "react";
import { Form } from "react-bootstrap";
import { Link } from "react-router-dom";
import type { OutletStatus, SourceStatus } from "../../api/types";
import { groupAttention, outletAttention, outletState, sourceAttention, worstFirst } from "../../parts/attention";
import { bytes, count, rate, span } from "../../parts/numbers";
import { StateMark } from "../../parts/StateMark";

const shown = 5;

/** Crowd is an overview of many sources and outlets: grouped by source, what needs a
 * person first, found by what is typed. */
export function Crowd({ sources, outlets }: { sources: SourceStatus[]; outlets: OutletStatus[] }) {
  const [search, setSearch] = useState("");
  const [only, setOnly] = useState(false);
  const groups = useMemo(() => {
    const bySource = new Map<string, OutletStatus[]>();
    outlets.forEach((o) => bySource.set(o.source, [...(bySource.get(o.source) ?? []), o]));
    return sources
      .map((source) => ({ source, outlets: worstFirst(bySource.get(source.name) ?? []) }))
      .sort((a, b) => groupAttention(b.source, b.outlets) - groupAttention(a.source, a.outlets) || b.source.rate - a.source.rate || a.source.name.localeCompare(b.source.name));
  }, [sources, outlets]);
  const wanted = search.trim().toLowerCase();
  const found = groups
    .map(({ source, outlets: all }) => {
      const named = [source.name, source.database].some((text) => text.toLowerCase().includes(wanted));
      const its = all.filter((o) => (named || [o.name, o.destination ?? "", o.kind].some((text) => text.toLowerCase().includes(wanted))) && (!only || outletAttention(o) > 1));
      return { source, outlets: its, all: all.length, there: (named || its.length > 0) && (!only || sourceAttention(source) > 1 || its.length > 0) };
    })
    .filter((group) => group.there);
  return (
    <>
      <div className="filters">
        <Form.Control
          size="sm"
          type="search"
          className="crowd-search"
          aria-label="Search sources, outlets and destinations"
          placeholder="Source, outlet or destination"
          value={search}
          onChange={(e) => setSearch(e.target.value)}
        />
        <Form.Check id="only-attention" label="Only what needs attention" checked={only} onChange={(e) => setOnly(e.target.checked)} />
        <span className="crowd-sum" role="status">
          <Sum word="source" states={sources.map((s) => s.phase)} /> <Sum word="outlet" states={outlets.map(outletState)} />
        </span>
      </div>
      {found.length === 0 && <p className="note">{only && !wanted ? "Nothing needs attention." : "Nothing is called so."}</p>}
      <div className="crowd">
        {found.map((group) => (
          <Group key={group.source.name} source={group.source} outlets={group.outlets} all={group.all} />
        ))}
      </div>
    </>
  );
}

/** Sum counts states: "40 sources: 38 running, 2 failed". */
function Sum({ word, states }: { word: string; states: string[] }) {
  const counts = new Map<string, number>();
  states.forEach((state) => counts.set(state, (counts.get(state) ?? 0) + 1));
  return (
    <span>
      {count(states.length)} {word}
      {states.length === 1 ? "" : "s"}
      {states.length > 0 &&
        ": " +
          [...counts]
            .sort((a, b) => b[1] - a[1])
            .map(([state, n]) => `${count(n)} ${state}`)
            .join(", ")}
    </span>
  );
}

const Group = memo(function Group({ source, outlets, all }: { source: SourceStatus; outlets: OutletStatus[]; all: number }) {
  const [open, setOpen] = useState(false);
  const attention = Math.max(sourceAttention(source), ...outlets.map(outletAttention));
  const tables = source.tables.filter((t) => t.state !== "gone" && t.state !== "left-out");
  const troubled = tables.filter((t) => ["stale", "not-loaded", "unpublished"].includes(t.state)).length;
  const listed = open ? outlets : outlets.slice(0, shown);
  return (
    <section className={attention > 1 ? "flow-node stalled" : "flow-node"} aria-label={`Source ${source.name}`}>
      <div className="outlet-line">
        <h2>
          <Link to={`/sources/${source.name}`}>{source.name}</Link>
        </h2>
        <StateMark state={source.phase} word={source.doing ? `${source.phase}, ${source.doing}` : source.phase} />
        <span className="to">{source.database}</span>
      </div>
      <p className="note">
        {rate(source.rate)} events/s{source.delay_seconds === undefined ? "" : `, ${span(source.delay_seconds)} to the journal`}; {count(source.journal.events)} events, {bytes(source.journal.bytes)};{" "}
        {count(tables.length)} tables{troubled > 0 && `, ${count(troubled)} to look at`}
      </p>
      {source.error && (
        <p className="trouble clipped" title={source.error}>
          {source.error}
        </p>
      )}
      {source.retained_log && source.retained_log.level !== "fine" && <StateMark state={source.retained_log.level} word={`${bytes(source.retained_log.bytes)} of its log retained`} />}
      <ul className="crowd-outlets">
        {listed.map((o) => (
          <OutletLine key={o.name} outlet={o} />
        ))}
      </ul>
      {outlets.length > shown && (
        <button type="button" className="btn btn-link btn-sm quiet-button" aria-expanded={open} onClick={() => setOpen(!open)}>
          {open ? "Fewer" : `${count(outlets.length - shown)} more outlets`}
        </button>
      )}
      {all === 0 && <p className="note">No outlets.</p>}
    </section>
  );
});

const OutletLine = memo(function OutletLine({ outlet: o }: { outlet: OutletStatus }) {
  return (
    <li>
      <StateMark state={outletState(o)} />
      <Link to={`/outlets/${o.name}`}>{o.name}</Link>
      <span className="to">{o.destination && `${o.kind} ${o.destination}`}</span>
      <span className="number" title={`${count(o.behind_events)} events behind`}>
        {o.behind_events ? span(o.behind_seconds) : "–"}
      </span>
      {o.dead_letters > 0 && (
        <Link className="trouble" to={`/outlets/${o.name}/dead-letters`}>
          {count(o.dead_letters)} dead letters
        </Link>
      )}
      {o.verified?.equal === false && (
        <Link className="trouble" to={`/outlets/${o.name}/verify`}>
          not equal
        </Link>
      )}
      {o.error && (
        <span className="trouble clipped" title={o.error}>
          {o.error}
        </span>
      )}
    </li>
  );
});
