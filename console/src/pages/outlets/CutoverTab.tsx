import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";
import { Button, Form, Modal } from "react-bootstrap";
import { answered, api, sendForLines, useOutletRecords } from "../../api/client";
import type { CutoverReport, CutoverResult, CutoverStep, OutletStatus } from "../../api/types";
import { Checks } from "../../parts/Checks";
import { count, localMoment } from "../../parts/numbers";
import { Trouble } from "../../parts/Trouble";
import { useWork } from "../../parts/work";

interface Line {
  step?: CutoverStep;
  result?: CutoverResult;
  problem?: { detail?: string; fix?: string };
}

interface Plan {
  stop_writers: boolean;
  as: string;
  as_password: string;
  follow_back?: string;
}

/** CutoverTab leads through the move of a system to the database that an outlet keeps equal. */
export function CutoverTab({ outlet }: { outlet: OutletStatus }) {
  const client = useQueryClient();
  const key = ["cutover", outlet.name];
  const path = { name: outlet.name };
  const { data: report, error, isFetching } = useQuery({ queryKey: key, queryFn: () => answered(api.GET("/v1/outlets/{name}/cutover", { params: { path } })), refetchOnWindowFocus: false });
  const [steps, setSteps] = useState<CutoverStep[]>([]);
  const [result, setResult] = useState<CutoverResult>();
  const [problem, setProblem] = useState<string>();
  const [asks, setAsks] = useState<"" | "go" | "abort">("");
  const { trouble, work, busy } = useWork();
  const running = useRef<AbortController>(undefined);
  useEffect(() => () => running.current?.abort(), []);
  const look = () => client.invalidateQueries({ queryKey: key });
  const go = (plan: Plan) => {
    const stop = new AbortController();
    running.current = stop;
    setAsks("");
    setSteps([]);
    setResult(undefined);
    setProblem(undefined);
    return work(async () => {
      await sendForLines<Line>(
        `/v1/outlets/${outlet.name}/cutover`,
        plan,
        ({ step, result, problem }) => {
          if (step) {
            setSteps((now) => [...(now.at(-1)?.step === step.step ? now.slice(0, -1) : now), step]);
          }
          setResult(result);
          if (problem) {
            setProblem([problem.detail, problem.fix].filter(Boolean).join(" "));
          }
        },
        stop.signal,
      ).finally(look);
    });
  };
  const abort = (plan: Plan) => {
    setAsks("");
    return work(() => answered(api.POST("/v1/outlets/{name}/cutover/abort", { params: { path }, body: plan })).finally(look));
  };
  if (error) {
    return <Trouble error={error} />;
  }
  if (!report) {
    return <p aria-busy="true">Looking …</p>;
  }
  // Delivery has ended there: whether it could be done is no question any more.
  const done = !busy && !report.ready && report.last?.state === "done";
  return (
    <section aria-label="Cut over" className="verify">
      <p className="note">
        Moves the system to this database: waits until nobody writes to {report.source} any more, proves that both sides are equal at one offset, sets sequences and auto-increment values here, and
        pauses the outlet. If anything fails before that, it is taken back. An outlet that was added to start at a cut over can keep the former database equal from then on.
      </p>
      <div className="rule-line">
        <Button size="sm" disabled={busy || !report.ready} onClick={() => setAsks("go")}>
          {busy ? "Cutting over …" : "Cut over …"}
        </Button>
        {busy && (
          <Button size="sm" variant="outline-secondary" onClick={() => running.current?.abort()}>
            End it, and take it back
          </Button>
        )}
        {!busy && (
          <Button size="sm" variant="outline-secondary" disabled={isFetching} onClick={look}>
            Check again
          </Button>
        )}
        {!busy && report.last?.stopped && (
          <Button size="sm" variant="outline-secondary" onClick={() => setAsks("abort")}>
            Let the source&apos;s writers in again …
          </Button>
        )}
      </div>
      <Trouble error={trouble} />
      {problem && (
        <p className="trouble" role="alert">
          {problem}
        </p>
      )}
      {steps.length > 0 && (
        <ol aria-label="Steps" role="status">
          {steps.map((s, i) => (
            <li key={i}>{s.text}</li>
          ))}
        </ol>
      )}
      {result && <Done result={result} />}
      {!result && !busy && report.last && <Last report={report} />}
      {!done && (
        <>
          <h2>Ready?</h2>
          <div role="region" aria-label="Checks">
            <Checks checks={report.checks} />
          </div>
          <Inventory report={report} />
        </>
      )}
      {asks !== "" && <PlanDialog report={report} abort={asks === "abort"} onNo={() => setAsks("")} onYes={(plan) => void (asks === "abort" ? abort(plan) : go(plan))} />}
    </section>
  );
}

function Last({ report }: { report: CutoverReport }) {
  const { state, offset, stopped, began_at } = report.last!;
  const words = { done: `Cut over at offset ${count(offset ?? 0)}`, aborted: "The last cut over had no effect", running: "A cut over is under way, or was cut off" }[state];
  return (
    <p>
      <strong>{words}</strong>, begun {localMoment(began_at)}.{stopped && " The source's writers are kept out by it."}
    </p>
  );
}

function Done({ result }: { result: CutoverResult }) {
  const left = result.counters.filter((c) => !c.done);
  return (
    <div role="status">
      <p>
        <strong>Cut over at offset {count(result.offset)}</strong>, in {result.seconds.toFixed(1)} s: {count(result.verification.tables.reduce((n, t) => n + t.rows, 0))} rows are equal. Writers may go
        to this database now.
        {result.follows_back && ` Outlet ${result.follows_back.outlet} leads back from here.`}
      </p>
      {left.map((c) => (
        <p key={`${c.table}.${c.column}`} className="trouble">
          {c.table}.{c.column} is not set: {c.note} <code>{c.statement}</code>
        </p>
      ))}
    </div>
  );
}

function Inventory({ report }: { report: CutoverReport }) {
  return (
    <>
      {report.inventory.counters.length > 0 && (
        <>
          <h2>Set here at the cut over</h2>
          <ul>
            {report.inventory.counters.map((c) => (
              <li key={`${c.table}.${c.column}`}>
                {c.table}.{c.column} goes on with {count(c.next)}
              </li>
            ))}
          </ul>
        </>
      )}
      {report.inventory.objects.length > 0 && (
        <>
          <h2>Not in rows: for you to make</h2>
          <ul>
            {report.inventory.objects.map((o) => (
              <li key={o.kind}>
                {count(o.count)} × {o.kind}: {o.names.slice(0, 5).join(", ")}
                {o.count > 5 && ` and ${count(o.count - 5)} more`}
              </li>
            ))}
          </ul>
        </>
      )}
    </>
  );
}

/** PlanDialog asks how the source's writers are kept out, or let in again. */
function PlanDialog({ report, abort, onNo, onYes }: { report: CutoverReport; abort: boolean; onNo: () => void; onYes: (plan: Plan) => void }) {
  const [plan, setPlan] = useState<Plan>({ stop_writers: false, as: "", as_password: "" });
  const scripts = abort ? report.allow : report.stop;
  const { data: outlets } = useOutletRecords();
  const ways = (outlets ?? []).filter((o) => o.definition.from === "cutover" && !o.running);
  return (
    <Modal animation={false} show onHide={onNo} size="lg" aria-labelledby="cutover-title">
      <Form
        onSubmit={(event) => {
          event.preventDefault();
          onYes(plan);
        }}
      >
        <Modal.Body>
          <h2 id="cutover-title">{abort ? `Let the writers of ${report.source} in again` : `Cut over from ${report.source}`}</h2>
          {!abort && (
            <Form.Check
              id="cutover-stop"
              label="Keep the source's writers out, by these statements; else they have to be stopped already"
              checked={plan.stop_writers}
              onChange={(e) => setPlan({ ...plan, stop_writers: e.target.checked })}
            />
          )}
          {(abort || plan.stop_writers) && (
            <>
              <pre className="fix-statement">{scripts.join("")}</pre>
              {!abort && report.note && <p className="note">{report.note}</p>}
              <Form.Group controlId="cutover-as">
                <Form.Label>Run them as (the source&apos;s own login without it)</Form.Label>
                <Form.Control size="sm" value={plan.as} autoComplete="off" onChange={(e) => setPlan({ ...plan, as: e.target.value })} />
              </Form.Group>
              <Form.Group controlId="cutover-password">
                <Form.Label>That login&apos;s password; it is not kept</Form.Label>
                <Form.Control size="sm" type="password" autoComplete="off" value={plan.as_password} onChange={(e) => setPlan({ ...plan, as_password: e.target.value })} />
              </Form.Group>
            </>
          )}
          {!abort && ways.length > 0 && (
            <Form.Group controlId="cutover-back">
              <Form.Label>Keep the former database equal from then on, by an outlet that waits for this</Form.Label>
              <Form.Select size="sm" value={plan.follow_back ?? ""} onChange={(e) => setPlan({ ...plan, follow_back: e.target.value || undefined })}>
                <option value="">no</option>
                {ways.map((o) => (
                  <option key={o.name} value={o.name}>
                    {o.name}, from {o.definition.source} to {o.definition.destination}
                  </option>
                ))}
              </Form.Select>
            </Form.Group>
          )}
        </Modal.Body>
        <Modal.Footer>
          <Button variant="outline-secondary" onClick={onNo}>
            Leave it
          </Button>
          <Button type="submit">{abort ? "Let them in" : "Cut over"}</Button>
        </Modal.Footer>
      </Form>
    </Modal>
  );
}
