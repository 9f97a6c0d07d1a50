import { createContext, useContext, useEffect, useState, type ReactNode } from "react";
import type { Status } from "./types";

interface Live {
  status: Status | null;
  /** lost is true while the service does not answer. */
  lost: boolean;
}

const Context = createContext<Live>({ status: null, lost: false });

/** StatusProvider follows the status stream, once for the whole console. */
export function StatusProvider({ children }: { children: ReactNode }) {
  const [live, setLive] = useState<Live>({ status: null, lost: false });
  useEffect(() => {
    let source: EventSource;
    let retry: ReturnType<typeof setTimeout>;
    const open = () => {
      source = new EventSource("/v1/status/stream");
      source.onmessage = (message) => setLive({ status: JSON.parse(message.data), lost: false });
      source.onerror = () => {
        setLive((before) => ({ ...before, lost: true }));
        if (source.readyState === EventSource.CLOSED) {
          retry = setTimeout(open, 2000);
        }
      };
    };
    open();
    return () => {
      clearTimeout(retry);
      source.close();
    };
  }, []);
  return <Context.Provider value={live}>{children}</Context.Provider>;
}

export const useStatus = () => useContext(Context);
