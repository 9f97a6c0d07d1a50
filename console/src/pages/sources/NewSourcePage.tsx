import { useState } from "react";
import { Button, Form } from "react-bootstrap";
import { useNavigate } from "react-router-dom";
import { answered, api } from "../../api/client";
import type { Check, SourceDefinition } from "../../api/types";
import { Checks } from "../../parts/Checks";
import { Steps } from "../../parts/Steps";
import { Trouble } from "../../parts/Trouble";
import { useWork } from "../../parts/work";
import { Chosen } from "./Chosen";
import { RulesEditor } from "./RulesEditor";
import { Scripts } from "./Scripts";
import { SourceForm } from "./SourceForm";
import { Trial } from "./Trial";

const steps = ["Connect", "Check", "Choose tables", "Try", "Start"] as const;

/** NewSourcePage adds a source in steps. Nothing is stored before the last. */
export function NewSourcePage() {
  const [step, setStep] = useState(0);
  const [name, setName] = useState("");
  const [definition, setDefinition] = useState<SourceDefinition>({
    engine: "postgresql",
    connection: { host: "", database: "", user: "" },
    tables: [{ match: "public.*", active: true }],
    mode: "load-and-follow",
  });
  const [checks, setChecks] = useState<Check[]>();
  const { busy, trouble, work } = useWork();
  const navigate = useNavigate();
  const path = { name };
  const check = () =>
    work(async () => {
      setChecks((await answered(api.POST("/v1/sources/{name}/check", { params: { path }, body: definition }))).items);
      setStep(1);
    });
  const add = (start: boolean) =>
    work(async () => {
      await answered(api.POST("/v1/sources/{name}", { params: { path }, body: definition }));
      if (start) {
        await answered(api.POST("/v1/sources/{name}/resume", { params: { path }, body: { reason: "started" } }));
      }
      navigate(`/sources/${name}`);
    });
  return (
    <>
      <h1>Add a source</h1>
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
            <Form.Group controlId="name" className="wide">
              <Form.Label>Name of the source</Form.Label>
              <Form.Control size="sm" required pattern="[a-z][a-z0-9-]{0,39}" value={name} placeholder="circulation" onChange={(e) => setName(e.target.value)} />
              <Form.Text>Lower-case letters, digits and hyphens; it stays in each event's id.</Form.Text>
            </Form.Group>
          </div>
          <SourceForm definition={definition} onChange={setDefinition} />
          <Button type="submit" size="sm" disabled={busy}>
            {busy ? "Looking …" : "Check it"}
          </Button>
        </Form>
      )}
      {step === 1 && checks && (
        <>
          <Checks checks={checks} />
          <Next busy={busy} word="Choose tables" onNext={() => setStep(2)}>
            <Button size="sm" variant="outline-secondary" onClick={check} disabled={busy}>
              Check again
            </Button>
          </Next>
          <Scripts name={name} definition={definition} onRun={check} />
        </>
      )}
      {step === 2 && (
        <>
          <RulesEditor rules={definition.tables ?? []} onChange={(tables) => setDefinition({ ...definition, tables })} />
          <Chosen name={name} definition={definition} />
          <Next busy={busy} word="Try it" onNext={() => setStep(3)} />
        </>
      )}
      {step === 3 && (
        <>
          <Trial name={name} definition={definition} />
          <Next busy={busy} word="Continue" onNext={() => setStep(4)} />
        </>
      )}
      {step === 4 && (
        <>
          <p>
            {definition.mode === "follow-only"
              ? "Once it starts, every later change of the chosen tables enters the journal."
              : "Once it starts, the rows that are there are loaded beside the changes that come meanwhile; following never waits for the load."}{" "}
            An outlet can be added before or after: the journal keeps the events.
          </p>
          <div className="page-head">
            <Button size="sm" onClick={() => add(true)} disabled={busy}>
              Add and start
            </Button>
            <Button size="sm" variant="outline-secondary" onClick={() => add(false)} disabled={busy}>
              Add, and start later
            </Button>
          </div>
        </>
      )}
    </>
  );
}

function Next({ busy, word, onNext, children }: { busy: boolean; word: string; onNext: () => void; children?: React.ReactNode }) {
  return (
    <div className="page-head">
      <Button size="sm" onClick={onNext} disabled={busy}>
        {word}
      </Button>
      {children}
    </div>
  );
}
