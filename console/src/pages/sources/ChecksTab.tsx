import { useQuery } from "@tanstack/react-query";
import { Button } from "react-bootstrap";
import { answered, api } from "../../api/client";
import { Checks } from "../../parts/Checks";
import { Trouble } from "../../parts/Trouble";
import { Scripts } from "./Scripts";

/** ChecksTab looks at the source now, and offers the scripts for an administrator. */
export function ChecksTab({ name }: { name: string }) {
  const { data, error, isFetching, refetch } = useQuery({
    queryKey: ["check", name],
    queryFn: () => answered(api.POST("/v1/sources/{name}/check", { params: { path: { name } } })),
    retry: false,
    staleTime: 0,
  });
  return (
    <section aria-label="Checks">
      <div className="page-head">
        <Button size="sm" variant="outline-secondary" onClick={() => refetch()} disabled={isFetching}>
          {isFetching ? "Looking …" : "Look again"}
        </Button>
      </div>
      <Trouble error={error} />
      {data && <Checks checks={data.items} />}
      <Scripts name={name} onRun={refetch} />
    </section>
  );
}
