import { useState } from "react";

/** useWork runs calls that a person asked for, one at a time: busy is true while
 * one runs, trouble is why the last one failed. work answers whether it went well. */
export function useWork() {
  const [busy, setBusy] = useState(false);
  const [trouble, setTrouble] = useState<unknown>();
  const work = async (what: () => Promise<unknown>) => {
    setBusy(true);
    setTrouble(undefined);
    try {
      await what();
      return true;
    } catch (error) {
      setTrouble(error);
      return false;
    } finally {
      setBusy(false);
    }
  };
  return { busy, trouble, work };
}
