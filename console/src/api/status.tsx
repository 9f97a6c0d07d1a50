import { createContext, useCallback, useContext, useEffect, useState, useSyncExternalStore, type ReactNode } from "react";
import { share } from "./share";
import type { OutletStatus, SourceStatus, Status } from "./types";

interface Live {
  status: Status | null;
  /** lost is true while the service does not answer. */
  lost: boolean;
}

/** Store holds the newest status. Parts that have not changed stay the same objects, so
 * that a component draws again only when its part has changed. */
class Store {
  live: Live = { status: null, lost: false };
  private readonly listeners = new Set<() => void>();

  subscribe = (listener: () => void) => {
    this.listeners.add(listener);
    return () => void this.listeners.delete(listener);
  };

  set(next: Live) {
    this.live = share(this.live, next);
    this.listeners.forEach((listener) => listener());
  }
}

const Context = createContext<Store>(new Store());

/** StatusProvider follows the status stream, once for the whole console. */
export function StatusProvider({ children }: { children: ReactNode }) {
  const [store] = useState(() => new Store());
  useEffect(() => {
    let source: EventSource;
    let retry: ReturnType<typeof setTimeout>;
    const open = () => {
      source = new EventSource("/v1/status/stream");
      source.onmessage = (message) => store.set({ status: JSON.parse(message.data), lost: false });
      source.onerror = () => {
        store.set({ ...store.live, lost: true });
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
  }, [store]);
  return <Context.Provider value={store}>{children}</Context.Provider>;
}

/** useLive looks at a part of the status, and draws again only when that changes: what
 * choose gives has to be a part of what it gets, or a plain value. */
export function useLive<T>(choose: (live: Live) => T): T {
  const store = useContext(Context);
  return useSyncExternalStore(store.subscribe, () => choose(store.live));
}

/** useSources are all sources, useOutlets all outlets; undefined while nothing is known. */
export const useSources = (): SourceStatus[] | undefined => useLive((live) => live.status?.sources);
export const useOutlets = (): OutletStatus[] | undefined => useLive((live) => live.status?.outlets);

/** useSourceStatus is one source, useOutletStatus one outlet. */
export const useSourceStatus = (name: string): SourceStatus | undefined => useLive(useCallback((live: Live) => live.status?.sources.find((s) => s.name === name), [name]));
export const useOutletStatus = (name: string): OutletStatus | undefined => useLive(useCallback((live: Live) => live.status?.outlets.find((o) => o.name === name), [name]));
