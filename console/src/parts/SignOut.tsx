import { useQuery, useQueryClient } from "@tanstack/react-query";
import { closeSession, session } from "../api/client";

/** SignOut ends a person's session, where the service has a token. */
export function SignOut() {
  const queries = useQueryClient();
  const { data } = useQuery({ queryKey: ["session"], queryFn: session, retry: false });
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
