import { useQuery, useQueryClient } from "@tanstack/react-query";
import { closeSession, getJSON, type Session } from "../api/client";

/** SignOut ends a person's session, where the service has a token. */
export function SignOut() {
  const queries = useQueryClient();
  const { data } = useQuery({ queryKey: ["session"], queryFn: () => getJSON<Session>("/v1/session"), retry: false });
  if (!data?.until) {
    return null;
  }
  return (
    <button
      type="button"
      className="sign-out"
      title={`Signed in until ${new Date(data.until).toLocaleTimeString()}`}
      onClick={async () => {
        await closeSession();
        queries.clear();
        location.assign("/");
      }}
    >
      Sign out
    </button>
  );
}
