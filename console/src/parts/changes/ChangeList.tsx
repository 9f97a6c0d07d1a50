import { useVirtualizer } from "@tanstack/react-virtual";
import { useRef, type KeyboardEvent } from "react";
import { count, localClock, localMoment } from "../numbers";
import { OperationMark } from "../OperationMark";
import { keyText, summary, type Change } from "./change";

const rowHeight = 30;

interface Props {
  changes: Change[];
  opened?: number;
  onOpen: (change: Change) => void;
  /** dated has commits with their date: they may be months apart. */
  dated?: boolean;
}

/** ChangeList is the newest changes, newest first; only what is seen is drawn. */
export function ChangeList({ changes, opened, onOpen, dated }: Props) {
  const box = useRef<HTMLDivElement>(null);
  const rows = useVirtualizer({ count: changes.length, getScrollElement: () => box.current, estimateSize: () => rowHeight, overscan: 12, getItemKey: (i) => changes[i]!.serial });
  const walk = (event: KeyboardEvent) => {
    const step = { ArrowDown: 1, ArrowUp: -1 }[event.key];
    if (!step || changes.length === 0) {
      return;
    }
    event.preventDefault();
    const at = changes.findIndex((c) => c.serial === opened);
    const to = Math.min(Math.max(at + step, 0), changes.length - 1);
    rows.scrollToIndex(to);
    onOpen(changes[to]!);
  };
  return (
    <div className={dated ? "change-list dated" : "change-list"}>
      <div className="change-row head" aria-hidden="true">
        <span className="number">offset</span>
        <span>committed</span>
        <span>operation</span>
        <span>table</span>
        <span>key</span>
        <span>what changed</span>
      </div>
      <div ref={box} className="change-scroll" tabIndex={0} role="listbox" aria-label="Rows; arrow keys open one after the other" onKeyDown={walk}>
        <div style={{ height: rows.getTotalSize(), position: "relative" }}>
          {rows.getVirtualItems().map((item) => {
            const change = changes[item.index]!;
            return (
              <div
                key={item.key}
                role="option"
                tabIndex={-1}
                aria-selected={change.serial === opened}
                data-offset={change.offset}
                className={change.serial === opened ? "change-row opened" : "change-row"}
                style={{ transform: `translateY(${item.start}px)`, height: rowHeight }}
                onClick={() => onOpen(change)}
                onKeyDown={(e) => e.key === "Enter" && onOpen(change)}
              >
                <span className="number">{count(Number(change.offset))}</span>
                <time dateTime={change.time} title={change.time}>
                  {dated ? localMoment(change.time) : localClock(change.time)}
                </time>
                <span>
                  <OperationMark operation={change.operation} />
                </span>
                <span>{change.table}</span>
                <span title={keyText(change.key)}>{keyText(change.key)}</span>
                <span title={summary(change)}>{summary(change)}</span>
              </div>
            );
          })}
        </div>
      </div>
    </div>
  );
}
