import { useQuery } from "@tanstack/react-query";
import { lazy, Suspense, type ReactNode } from "react";
import { answered, api, Refused } from "../api/client";

const TokenForm = lazy(() => import("./TokenForm").then((m) => ({ default: m.TokenForm })));

/** TokenGate asks for the service's token where the service requires one. */
export function TokenGate({ children }: { children: ReactNode }) {
  const probe = useQuery({ queryKey: ["version"], queryFn: () => answered(api.GET("/v1/version")), retry: false });
  if (probe.isLoading) {
    return null;
  }
  if (!(probe.error instanceof Refused && probe.error.status === 401)) {
    return children;
  }
  return (
    <Suspense>
      <TokenForm />
    </Suspense>
  );
}
