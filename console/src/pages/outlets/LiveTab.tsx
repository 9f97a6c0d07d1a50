import { useState } from "react";
import { Button } from "react-bootstrap";
import { ChangesView } from "../../parts/changes/ChangesView";
import { useStream } from "../../parts/changes/useStream";
import { count } from "../../parts/numbers";

/** LiveTab shows what an outlet lets through, as it comes. */
export function LiveTab({ name }: { name: string }) {
  const [paused, setPaused] = useState(false);
  const stream = useStream(`/v1/outlets/${name}/stream?from=now&as=cloudevents`, paused);
  return (
    <div className="live">
      <ChangesView
        key={name}
        label="What the outlet lets through"
        stream={stream}
        head={
          stream.changes.length > 0 && (
            <div className="filters">
              <Button size="sm" className="pause" variant={paused ? "primary" : "outline-primary"} onClick={() => setPaused(!paused)}>
                {paused ? `Resume (${count(stream.held)} new)` : "Pause"}
              </Button>
            </div>
          )
        }
        empty={stream.ready ? "Nothing has come through yet. A change that the outlet lets through shows here at once; one that it keeps back does not." : stream.error ? "" : "Looking …"}
      />
    </div>
  );
}
