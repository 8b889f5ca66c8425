import { structuredPatch } from "diff";
import { useState } from "react";
import type { PlanRevision } from "./api";
import { useRevision } from "./queries";
import { ago, clock, day } from "./time";
import { Card, control, Table } from "./ui";

// Revisions lists those of a plan, the newest first.
export function Revisions({ all }: { all: PlanRevision[] }) {
  if (all.length === 0) return null;
  const cell = "border-t border-line py-1 pr-4 align-top";
  return (
    <Card title="Revisions">
      <Table columns={["", "by", "when", "parts", "why"]}>
        {all.map((r) => (
          <tr key={r.revision}>
            <td className={`${cell} font-semibold`}>{r.revision}</td>
            <td className={cell}>{r.by}</td>
            <td className={cell} title={`${day(new Date(r.at))} ${clock(new Date(r.at))}`}>{ago(r.at)}</td>
            <td className={cell}>{r.parts.map((p) => `${p.part} ${p.revision}`).join(", ")}</td>
            <td className={`${cell} [overflow-wrap:anywhere]`}>{r.why}</td>
          </tr>
        ))}
      </Table>
    </Card>
  );
}

// Changes shows what any two revisions say otherwise, with their parts, or what is changed here.
export function Changes({ name, all, draft, base }: { name: string; all: PlanRevision[]; draft?: string; base: string }) {
  const newest = all[0]?.revision ?? 0;
  const [picked, setPicked] = useState<{ from: number; to: number }>();
  const { from, to } = picked ?? { from: newest - 1, to: newest };
  const old = useRevision(name, from).data;
  const last = useRevision(name, to).data;
  if (draft !== undefined) return <Card title="What is changed here"><Lines old={base} text={draft} /></Card>;
  if (newest < 2) return null;
  const choice = (label: string, value: number, pick: (n: number) => void) => (
    <select aria-label={label} className={control} value={value} onChange={(e) => pick(Number(e.target.value))}>
      {all.map((r) => <option key={r.revision} value={r.revision}>revision {r.revision}</option>)}
    </select>
  );
  return (
    <Card title="What was changed">
      <p className="mb-2 flex flex-wrap items-center gap-2 text-sm text-soft">
        from {choice("from", from, (n) => setPicked({ from: n, to }))} to {choice("to", to, (n) => setPicked({ from, to: n }))}
      </p>
      {old && last && <Lines old={old.whole ?? ""} text={last.whole ?? ""} />}
    </Card>
  );
}

const mostLines = 2000;

// Lines shows the lines of two texts that are not the same, each with three around it.
function Lines({ old, text }: { old: string; text: string }) {
  const hunks = structuredPatch("", "", old, text, "", "", { context: 3 }).hunks;
  if (hunks.length === 0) return <p className="text-soft">They say the same.</p>;
  const lines = hunks.flatMap((h) => [`@@ line ${h.newStart}`, ...h.lines.filter((l) => !l.startsWith("\\"))]);
  const look = (l: string) => (l.startsWith("+") ? { background: "color-mix(in srgb, var(--sev5) 18%, transparent)" } : l.startsWith("-") ? { background: "color-mix(in srgb, var(--sev3) 18%, transparent)" } : undefined);
  return (
    <pre className="overflow-x-auto rounded bg-paper p-2 font-mono text-xs" aria-label="changed lines">
      {lines.slice(0, mostLines).map((l, i) => <div key={i} className={l.startsWith("@@") ? "text-soft" : ""} style={look(l)}>{l || " "}</div>)}
      {lines.length > mostLines && <div className="text-soft">and {lines.length - mostLines} more lines</div>}
    </pre>
  );
}
