import { useVirtualizer } from "@tanstack/react-virtual";
import { useEffect, useRef, useState, type UIEvent } from "react";
import type { Rec, Value } from "./api";
import { Severity } from "./severity";
import { clock, day } from "./time";

const line = 24; // pixels, of a record with one line
const more = 20; // of each other line of a text that is unfolded
const mostLines = 200; // of a text that are unfolded

// columnsOf takes apart which columns are asked for.
export const columnsOf = (text: string) => text.split(",").map((c) => c.trim()).filter(Boolean).slice(0, 6);

// linesOf counts the lines of a text, as many as are unfolded.
const linesOf = (text: string) => Math.min(mostLines, text.split("\n", mostLines).length);

// valueOf is what a record has of a property, or of a field by its path: at each level the longest name wins.
function valueOf(r: Rec, column: string): string {
  const property = (r as unknown as Record<string, unknown>)[column];
  if (property !== undefined && column !== "fields") return typeof property === "object" ? JSON.stringify(property) : String(property);
  let value: Value | undefined = r.fields;
  let rest = column.replace(/^field /, "");
  while (rest && value && typeof value === "object" && !Array.isArray(value)) {
    const name: string | undefined = Object.keys(value).filter((k) => rest === k || rest.startsWith(k + ".")).sort((a, b) => b.length - a.length)[0];
    if (name === undefined) return "";
    value = value[name];
    rest = rest.slice(name.length + 1);
  }
  if (rest || value === undefined || value === null) return "";
  return typeof value === "object" ? JSON.stringify(value) : String(value);
}

// RecordList shows records, with columns beside what all have, and texts in one line or unfolded. Live it stays at its end,
// unless somebody has scrolled up.
export function RecordList({ list, columns, unfold, open, live, onOpen, onEnd }: { list: Rec[]; columns: string[]; unfold: boolean; open: Rec | null; live: boolean; onOpen: (r: Rec) => void; onEnd?: () => void }) {
  const box = useRef<HTMLDivElement>(null);
  const atEnd = useRef(true);
  const narrow = useNarrow();
  const rows = useVirtualizer({ count: list.length, getScrollElement: () => box.current, estimateSize: (i) => (narrow ? 46 : line) + (unfold ? more * (linesOf(list[i].text ?? "") - 1) : 0), overscan: 20 });
  const measured = unfold ? list : null; // what each row takes depends on its text
  useEffect(() => rows.measure(), [rows, narrow, unfold, measured]);
  const last = rows.getVirtualItems().at(-1)?.index ?? 0;
  useEffect(() => {
    if (list.length > 0 && last > list.length - 200) onEnd?.();
  }, [last, list.length, onEnd]);
  useEffect(() => {
    atEnd.current = true;
  }, [live]);
  useEffect(() => {
    if (live && atEnd.current && list.length > 0) rows.scrollToIndex(list.length - 1);
  }, [live, list]);
  const scrolled = (e: UIEvent<HTMLDivElement>) => {
    const b = e.currentTarget;
    atEnd.current = b.scrollHeight - b.scrollTop - b.clientHeight < 60;
  };
  const at = open ? list.indexOf(open) : -1;
  const today = day(new Date());
  const otherDays = [list[0], list.at(-1)].some((r) => r?.time && day(new Date(r.time)) !== today);
  useEffect(() => {
    if (at >= 0) rows.scrollToIndex(at);
  }, [at]);
  return (
    <div ref={box} onScroll={scrolled} className={`overflow-y-auto ${list.length ? "h-full" : ""}`} role="listbox" aria-label={columns.length ? `records, with ${columns.join(", ")}` : "records"}>
      <div style={{ height: rows.getTotalSize(), position: "relative" }}>
        {rows.getVirtualItems().map((row) => {
          const r = list[row.index];
          const time = r.time ? new Date(r.time) : null;
          return (
            <div
              key={row.key}
              role="option"
              tabIndex={0}
              aria-selected={r === open}
              className={`absolute left-0 flex w-full cursor-pointer flex-wrap content-center ${unfold ? "items-start" : "items-center"} gap-x-2 px-3 text-sm hover:bg-wash sm:gap-x-3 sm:px-5 md:flex-nowrap ${r === open ? "bg-wash" : ""}`}
              style={{ height: row.size, transform: `translateY(${row.start}px)` }}
              onClick={() => onOpen(r)}
              onKeyDown={(e) => e.key === "Enter" && onOpen(r)}
            >
              <span className={`shrink-0 font-mono text-xs text-soft ${otherDays ? "w-28 sm:w-36" : "w-16 sm:w-[6.5rem]"}`} title={r.time}>
                {time && (otherDays ? day(time).slice(5) + " " : "")}{time && clock(time)}<span className="hidden sm:inline">{time && clock(time, true).slice(8)}</span>
              </span>
              <span className="w-24 shrink-0"><Severity name={r.severity} /></span>
              <span className="min-w-0 flex-1 truncate text-soft md:w-44 md:flex-none">{r.host ?? "-"} <span className="text-ink">{r.app ?? "-"}</span></span>
              {columns.map((c) => <span key={c} className="w-24 shrink-0 truncate font-mono text-soft max-md:hidden" title={c}>{valueOf(r, c)}</span>)}
              <span className={`w-full font-mono md:w-auto ${unfold ? "overflow-hidden whitespace-pre" : "truncate"}`}>{unfold ? r.text?.split("\n", mostLines).join("\n") : r.text}</span>
            </div>
          );
        })}
      </div>
    </div>
  );
}

// useNarrow tells whether a record takes two lines, as the breakpoint md has it.
function useNarrow() {
  const [narrow, setNarrow] = useState(false);
  useEffect(() => {
    const query = window.matchMedia("(max-width: 767px)");
    const look = () => setNarrow(query.matches);
    look();
    query.addEventListener("change", look);
    return () => query.removeEventListener("change", look);
  }, []);
  return narrow;
}
