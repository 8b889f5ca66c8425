import { useRef, useState, type KeyboardEvent } from "react";
import { colorOf, severities } from "./severity";
import { clock, count, day } from "./time";

const sum = (counts: number[]) => counts.reduce((a, b) => a + b, 0);

// Histogram draws counts by severity over a span, and as lines how many there were in another one, before. Dragging over
// it selects a part of the span; so do the arrows with Shift, and Enter.
export function Histogram({ counts, before, since, until, onSelect, height = 96 }: { counts: number[][]; before?: number[][]; since: number; until: number; onSelect?: (since: number, until: number) => void; height?: number }) {
  const box = useRef<HTMLDivElement>(null);
  const [drag, setDrag] = useState<[number, number] | null>(null);
  const [over, setOver] = useState<number | null>(null);
  const totals = counts.map(sum);
  const were = before?.map(sum);
  const most = Math.max(1, ...totals, ...(were ?? []));
  const long = until - since > 36 * 3600e3;
  const at = (t: number) => `${long ? `${day(new Date(t))} ` : ""}${clock(new Date(t))}`;
  const step = (until - since) / counts.length;
  const partAt = (x: number) => {
    const r = box.current!.getBoundingClientRect();
    return Math.max(0, Math.min(counts.length - 1, Math.floor(((x - r.left) / r.width) * counts.length)));
  };
  const release = () => {
    if (drag && onSelect) {
      const [a, b] = [Math.min(...drag), Math.max(...drag)];
      onSelect(since + a * step, since + (b + 1) * step);
    }
    setDrag(null);
  };
  const press = (e: KeyboardEvent<HTMLDivElement>) => {
    const by = { ArrowLeft: -1, ArrowRight: 1, Home: -counts.length, End: counts.length }[e.key];
    if (by !== undefined) {
      const from = over ?? (by < 0 ? counts.length : -1);
      const to = Math.max(0, Math.min(counts.length - 1, from + by));
      setOver(to);
      setDrag(e.shiftKey && onSelect ? [drag?.[0] ?? Math.max(0, Math.min(counts.length - 1, from)), to] : null);
    } else if (e.key === "Enter" && onSelect && over !== null) {
      const [a, b] = drag ? [Math.min(...drag), Math.max(...drag)] : [over, over];
      onSelect(since + a * step, since + (b + 1) * step);
      setDrag(null);
    } else if (e.key === "Escape") {
      setDrag(null);
      setOver(null);
    } else {
      return;
    }
    e.preventDefault();
    e.stopPropagation();
  };
  const selected = (i: number) => drag && i >= Math.min(...drag) && i <= Math.max(...drag);
  const shown = over ?? -1;
  const said =
    shown >= 0 && counts[shown]
      ? `${at(since + shown * step)}: ` + (totals[shown] === 0 ? "nothing" : severities.map((name, s) => (counts[shown][s] ? `${count(counts[shown][s])} ${name}` : "")).filter(Boolean).join(", ")) + (were ? `; ${count(were[shown])} before` : "")
      : `at most ${count(most)} in a part`;
  return (
    <figure className="select-none">
      <div
        ref={box}
        role="slider"
        tabIndex={0}
        aria-label={`records over time, by severity${onSelect ? "; Shift and arrows select a span, Enter shows it" : ""}`}
        aria-valuemin={0}
        aria-valuemax={counts.length - 1}
        aria-valuenow={Math.max(0, shown)}
        aria-valuetext={said}
        className={`relative flex items-end gap-px outline-offset-2 ${onSelect ? "cursor-crosshair" : ""}`}
        onKeyDown={press}
        onBlur={() => { setOver(null); setDrag(null); }}
        style={{ height }}
        onPointerDown={(e) => onSelect && setDrag([partAt(e.clientX), partAt(e.clientX)])}
        onPointerMove={(e) => {
          setOver(partAt(e.clientX));
          if (drag) setDrag([drag[0], partAt(e.clientX)]);
        }}
        onPointerUp={release}
        onPointerLeave={() => {
          setOver(null);
          setDrag(null);
        }}
      >
        {counts.map((c, i) => (
          <div key={i} className="relative flex h-full flex-1 flex-col justify-end" style={{ background: selected(i) || shown === i ? "var(--amber-wash)" : undefined }}>
            {c.map((n, s) => n > 0 && <div key={s} style={{ height: `${Math.max(1.5, (n / most) * 100)}%`, maxHeight: "100%", flexShrink: 1, background: colorOf(s), opacity: s > 4 ? 0.55 : 1 }} />)}
            {!!were?.[i] && <div className="absolute w-full border-t-2 border-ink" style={{ bottom: `${(were[i] / most) * 100}%` }} />}
          </div>
        ))}
      </div>
      <figcaption className="mt-1 flex justify-between border-t border-line pt-1 text-xs text-soft">
        <span>{day(new Date(since))} {clock(new Date(since))}</span>
        <span className="hidden sm:inline">{said}</span>
        <span>{at(until)}</span>
      </figcaption>
    </figure>
  );
}
