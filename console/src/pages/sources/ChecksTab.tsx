import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Button } from "react-bootstrap";
import { send } from "../../api/client";
import type { Check, Scripts } from "../../api/types";
import { Checks } from "../../parts/Checks";
import { Trouble } from "../../parts/Trouble";
import { useWork } from "../../parts/work";
import { ScriptRunner } from "./ScriptRunner";

/** ChecksTab looks at the source now, and offers the scripts for an administrator. */
export function ChecksTab({ name }: { name: string }) {
  const { data, error, isFetching, refetch } = useQuery({
    queryKey: ["check", name],
    queryFn: () => send<{ items: Check[] }>("POST", `/v1/sources/${name}/check`),
    retry: false,
    staleTime: 0,
  });
  const [scripts, setScripts] = useState<Scripts>();
  const { trouble, work } = useWork();
  return (
    <section aria-label="Checks">
      <div className="page-head">
        <Button size="sm" variant="outline-secondary" onClick={() => refetch()} disabled={isFetching}>
          {isFetching ? "Looking …" : "Look again"}
        </Button>
        <Button size="sm" variant="outline-secondary" onClick={() => work(async () => setScripts(await send<Scripts>("POST", `/v1/sources/${name}/scripts`)))}>
          Scripts for an administrator
        </Button>
      </div>
      <Trouble error={error ?? trouble} />
      {data && <Checks checks={data.items} />}
      {scripts && (
        <>
          <ScriptRunner name={name} onRun={refetch} />
          <h2>To prepare the database</h2>
          <pre className="script" tabIndex={0}>{scripts.setup}</pre>
          <h2>To have it write each schema change's statement into its log</h2>
          <pre className="script" tabIndex={0}>{scripts.statements}</pre>
          <h2>To take that away again</h2>
          <pre className="script" tabIndex={0}>{scripts.teardown}</pre>
        </>
      )}
    </section>
  );
}
