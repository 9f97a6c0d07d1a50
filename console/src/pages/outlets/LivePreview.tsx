import { useQuery } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { answered, api } from "../../api/client";
import type { Destination, Outlet } from "../../api/types";
import { Message } from "../../parts/changes/Message";
import { count } from "../../parts/numbers";
import { Trouble } from "../../parts/Trouble";

/** calmFor is how long nothing may be typed before it is looked what comes of it. */
const calmFor = 500;

interface Props {
  definition: Outlet;
  /** destination is that of the outlet where it is not stored yet. */
  destination?: Destination;
}

/** LivePreview shows what a definition makes of the journal's newest events while it is
 * typed, what is wrong with it, and which part of it keeps events back. */
export function LivePreview({ definition, destination }: Props) {
  const text = JSON.stringify({ outlet: definition, destination });
  const [calm, setCalm] = useState(text);
  useEffect(() => {
    const timer = setTimeout(() => setCalm(text), calmFor);
    return () => clearTimeout(timer);
  }, [text]);
  const { data, error } = useQuery({
    queryKey: ["preview", calm],
    queryFn: () => answered(api.POST("/v1/preview", { params: { query: { limit: 2 } }, body: JSON.parse(calm) as Props & { outlet: Outlet } })),
    placeholderData: (before) => before,
    retry: false,
    staleTime: 10_000,
  });
  return (
    <section aria-label="What comes of it" className="live-preview">
      <h2>What comes of it</h2>
      {error ? (
        <Trouble error={error} />
      ) : (
        data && (
          <>
            <p className="note" role="status">
              {data.items.length === 0 ? "None of the newest events would go out. " : ""}
              Looked at {count(data.looked_at)} of the newest events
              {data.kept_back.map((k) => (
                <span key={k.by}>
                  ; {count(k.events)} kept back by <span className="code">{k.by}</span>
                </span>
              ))}
              .
            </p>
            {data.items.map((m) => (
              <Message key={m.id} message={m} />
            ))}
          </>
        )
      )}
    </section>
  );
}
