import { useState } from "react";
import { Button, Form } from "react-bootstrap";
import { useNavigate } from "react-router-dom";
import { answered, api, useDestinations, useKinds } from "../../api/client";
import { useSources } from "../../api/status";
import type { Check, Destination, Outlet, Preview } from "../../api/types";
import { Checks } from "../../parts/Checks";
import { Message } from "../../parts/changes/Message";
import { Steps } from "../../parts/Steps";
import { Trouble } from "../../parts/Trouble";
import { useWork } from "../../parts/work";
import { DestinationForm } from "./DestinationForm";
import { LivePreview } from "./LivePreview";
import { OutletForm } from "./OutletForm";

const steps = ["Destination", "Check", "What goes out", "Preview", "Start"];
const pull = "(pull)";
const another = "(new)";

/** NewOutletPage adds an outlet, and a destination where it is a new one, step by
 * step. The outlet is stored in the last one; a new destination when it has been
 * checked, which by itself does nothing. */
export function NewOutletPage() {
  const navigate = useNavigate();
  const sources = useSources();
  const { data: destinations } = useDestinations();
  const { data: kinds } = useKinds();
  const [step, setStep] = useState(0);
  const [chosen, setChosen] = useState(another);
  const [destinationName, setDestinationName] = useState("");
  const [destination, setDestination] = useState<Destination>({ kind: "file" });
  const [name, setName] = useState("");
  const [outlet, setOutlet] = useState<Outlet>({ source: "" });
  const [checks, setChecks] = useState<Check[]>();
  const [tables, setTables] = useState<Check[]>([]);
  const [previews, setPreviews] = useState<Preview[]>();
  const { busy, trouble, work } = useWork();
  const known = destinations?.find((d) => d.name === chosen);
  const kindName = chosen === pull ? "pull" : (known?.definition.kind ?? destination.kind);
  const kind = kinds?.find((k) => k.name === kindName);
  const target = chosen === pull ? "" : chosen === another ? destinationName : chosen;
  const source = outlet.source || sources?.[0]?.name || "";
  const definition: Outlet = { ...outlet, source, destination: target || undefined };
  const check = () =>
    work(async () => {
      if (chosen === pull) {
        setStep(2);
        return;
      }
      const found = await answered(api.POST("/v1/destinations/{name}/check", { params: { path: { name: target } }, body: chosen === another ? destination : undefined }));
      setChecks(found.items);
      setStep(1);
    });
  /** The destination of an outlet has to be stored before the outlet can be
   * previewed; one that is stored and not used does nothing. */
  const preview = () =>
    work(async () => {
      if (chosen === another) {
        await answered(api.POST("/v1/destinations/{name}", { params: { path: { name: destinationName } }, body: destination }));
        setChosen(destinationName);
      }
      const found = await answered(api.POST("/v1/outlets/{name}/preview", { params: { path: { name: name || "preview" }, query: { limit: 3, tables: true } }, body: definition }));
      setTables(found.tables ?? []);
      setPreviews(found.items);
      setStep(3);
    });
  const add = () =>
    work(async () => {
      await answered(api.POST("/v1/outlets/{name}", { params: { path: { name } }, body: definition }));
      navigate(`/outlets/${name}`);
    });
  return (
    <>
      <h1>Add an outlet</h1>
      <Steps titles={steps} step={step} onStep={setStep} />
      <Trouble error={trouble} />
      {step === 0 && (
        <Form
          onSubmit={(event) => {
            event.preventDefault();
            void check();
          }}
        >
          <div className="rule-line">
            <Form.Group controlId="destination">
              <Form.Label>Where events go</Form.Label>
              <Form.Select size="sm" value={chosen} onChange={(e) => setChosen(e.target.value)}>
                <option value={another}>a new destination</option>
                <option value={pull}>nowhere: consumers come and read</option>
                {destinations?.map((d) => (
                  <option key={d.name} value={d.name}>
                    {d.name} ({d.definition.kind})
                  </option>
                ))}
              </Form.Select>
            </Form.Group>
            {chosen === another && (
              <Form.Group controlId="destination-name" className="wide">
                <Form.Label>Name of the destination</Form.Label>
                <Form.Control size="sm" required pattern="[a-z][a-z0-9-]{0,39}" placeholder="hub" value={destinationName} onChange={(e) => setDestinationName(e.target.value)} />
              </Form.Group>
            )}
          </div>
          {chosen === another && kinds && <DestinationForm kinds={kinds} destination={destination} onChange={setDestination} />}
          <Button type="submit" size="sm" disabled={busy}>
            {busy ? "Looking …" : chosen === pull ? "Continue" : "Check it"}
          </Button>
        </Form>
      )}
      {step === 1 && checks && (
        <>
          <Checks checks={checks} />
          <div className="page-head">
            <Button size="sm" onClick={() => setStep(2)}>
              Choose what goes out
            </Button>
            <Button size="sm" variant="outline-secondary" onClick={check} disabled={busy}>
              Check again
            </Button>
          </div>
        </>
      )}
      {step === 2 && (
        <Form
          onSubmit={(event) => {
            event.preventDefault();
            void preview();
          }}
        >
          <div className="rule-line">
            <Form.Group controlId="name" className="wide">
              <Form.Label>Name of the outlet</Form.Label>
              <Form.Control size="sm" required pattern="[a-z][a-z0-9-]{0,39}" placeholder="loans-to-hub" value={name} onChange={(e) => setName(e.target.value)} />
            </Form.Group>
            <Form.Group controlId="source">
              <Form.Label>Source</Form.Label>
              <Form.Select size="sm" value={source} onChange={(e) => setOutlet({ ...outlet, source: e.target.value })}>
                {sources?.map((s) => (
                  <option key={s.name}>{s.name}</option>
                ))}
              </Form.Select>
            </Form.Group>
          </div>
          {kind && <OutletForm key={kindName} kind={kind} outlet={{ ...outlet, source }} onChange={setOutlet} />}
          <LivePreview definition={definition} destination={chosen === another ? destination : undefined} />
          <Button type="submit" size="sm" disabled={busy}>
            {busy ? "Looking …" : "Preview"}
          </Button>
        </Form>
      )}
      {step === 3 && (
        <>
          {previews?.length === 0 && <p className="note">None of the journal's newest events would be let through. That may be right; if not, look at tables and operations again.</p>}
          {tables.length > 0 && <Checks checks={tables} />}
          {previews?.map((m) => (
            <Message key={m.id} message={m} />
          ))}
          <Button size="sm" onClick={() => setStep(4)}>
            Continue
          </Button>
        </>
      )}
      {step === 4 && (
        <>
          <p>
            The outlet {name} starts at once, {begins(outlet.from)}. It has an offset of its own; no other outlet notices it.
          </p>
          <Button size="sm" onClick={add} disabled={busy}>
            Add and start
          </Button>
        </>
      )}
    </>
  );
}

/** begins says where an outlet begins. */
function begins(from = "beginning"): string {
  switch (from) {
    case "beginning":
      return "at the oldest event that the journal keeps";
    case "load":
      return "with a load of its tables for it alone";
    case "now":
      return "with what comes from now on";
    case "cutover":
      return "when a cut over has it lead back, and is paused until then";
    default:
      return `at ${from}`;
  }
}
