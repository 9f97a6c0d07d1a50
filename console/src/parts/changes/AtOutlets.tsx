import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Form } from "react-bootstrap";
import { Link, useMatch } from "react-router-dom";
import { answered, api } from "../../api/client";
import type { components } from "../../api/schema.gen";
import { useOutlets } from "../../api/status";
import { StateMark } from "../StateMark";
import { Trouble } from "../Trouble";
import type { Change } from "./change";

type Why = components["schemas"]["Why"];

/** mostShown is how many outlets are asked at once; others are chosen by name. */
const mostShown = 8;

/** AtOutlets says what became of an event at each outlet of its source, and by what. */
export function AtOutlets({ change }: { change: Change }) {
  const source = change.id.split("/")[0];
  const here = useMatch("/outlets/:name/*")?.params.name;
  const outlets = (useOutlets() ?? []).filter((o) => o.source === source && (here === undefined || o.name === here));
  const [chosen, setChosen] = useState("");
  if (outlets.length === 0) {
    return <p className="note">No outlet takes events of {source}.</p>;
  }
  const shown = outlets.length <= mostShown ? outlets : outlets.filter((o) => o.name === chosen);
  return (
    <div className="at-outlets">
      {outlets.length > mostShown && (
        <Form.Select size="sm" aria-label="Outlet" value={chosen} onChange={(e) => setChosen(e.target.value)}>
          <option value="">choose an outlet</option>
          {outlets.map((o) => (
            <option key={o.name}>{o.name}</option>
          ))}
        </Form.Select>
      )}
      {shown.map((o) => (
        <AtOutlet key={o.name} outlet={o.name} offset={change.offset} />
      ))}
    </div>
  );
}

const marks: Record<Why["fate"], string> = { "kept-back": "paused", waits: "waiting", delivered: "good", dead: "failed", "behind-dead": "waiting" };

function AtOutlet({ outlet, offset }: { outlet: string; offset: string }) {
  const { data, error } = useQuery({
    queryKey: ["why", outlet, offset],
    queryFn: () => answered(api.GET("/v1/outlets/{name}/why", { params: { path: { name: outlet }, query: { offset: Number(offset) } } })),
    retry: false,
    staleTime: 5000,
  });
  return (
    <section aria-label={`At outlet ${outlet}`}>
      <h3>
        <Link to={`/outlets/${outlet}`}>{outlet}</Link> {data && <StateMark state={marks[data.fate]} word={data.fate.replace("-", " ")} />}
      </h3>
      {!!error && <Trouble error={error} />}
      {data && <p>{data.text}</p>}
      {data && (
        <ul>
          {data.steps.map((step, i) => (
            <li key={i}>
              {step.passes ? "passes" : "stops"}: {step.text}
            </li>
          ))}
          {data.messages.map((m) => (
            <li key={m.id}>
              becomes {m.type}
              {m.topic && `, topic ${m.topic}`}
              {m.key && `, key ${m.key}`}
              {m.problem && `; cannot be sent: ${m.problem}`}
            </li>
          ))}
          {data.letter && (
            <li>
              tried {data.letter.attempts} times; <Link to={`/outlets/${outlet}/dead-letters`}>its dead letter</Link>
            </li>
          )}
        </ul>
      )}
    </section>
  );
}
