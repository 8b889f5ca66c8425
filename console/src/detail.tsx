import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { order, type Host } from "./api";
import { severities } from "./severity";
import { clock } from "./time";
import { useMayOperate, useRules } from "./queries";
import { Button, control } from "./ui";

const spans: [string, number][] = [["10 minutes", 600], ["30 minutes", 1800], ["2 hours", 7200], ["24 hours", 86400]];

// DetailWindows shows the thresholds that are lowered for a while, and lets who may lower one.
export function DetailWindows({ host: h }: { host: Host }) {
  const may = useMayOperate();
  const [rule, setRule] = useState("");
  const [to, setTo] = useState("debug");
  const [seconds, setSeconds] = useState(1800);
  const rules = useRules(h, may);
  const give = useMutation({ mutationFn: (what: { kind: "detail_open" | "detail_close"; rule: string; to?: string; seconds?: number }) => order(h.agent_id, what) });
  const windows = h.status.details ?? [];
  return (
    <div>
      {windows.length === 0 && <p className="mb-2 text-sm text-soft">None is open: every rule has its own threshold.</p>}
      <ul className="mb-2">
        {windows.map((d) => (
          <li key={d.rule} className="flex items-baseline gap-3">
            <span>{d.rule ? <>rule <b className="font-semibold">{d.rule}</b></> : "the agent's own log"} takes {d.to} instead of {d.from} until {clock(new Date(d.until))}</span>
            {may && d.rule && <Button look="link" onClick={() => give.mutate({ kind: "detail_close", rule: d.rule })}>close</Button>}
          </li>
        ))}
      </ul>
      {may && (
        <form
          className="flex flex-wrap items-center gap-2"
          onSubmit={(e) => {
            e.preventDefault();
            give.mutate({ kind: "detail_open", rule: rule || (rules.data?.[0] ?? ""), to, seconds });
          }}
        >
          <select aria-label="rule" className={control} value={rule} onChange={(e) => setRule(e.target.value)}>{rules.data?.map((r) => <option key={r}>{r}</option>)}</select>
          <select aria-label="severity" className={control} value={to} onChange={(e) => setTo(e.target.value)}>{severities.slice(3).map((s) => <option key={s}>{s}</option>)}</select>
          <select aria-label="for" className={control} value={seconds} onChange={(e) => setSeconds(Number(e.target.value))}>{spans.map(([name, n]) => <option key={n} value={n}>{name}</option>)}</select>
          <Button disabled={give.isPending}>{give.isPending ? "waiting for the agent…" : "Open"}</Button>
        </form>
      )}
      <p aria-live="polite" className="mt-2 text-sm">{give.error?.message ?? give.data?.outcome.why ?? give.data?.outcome.text ?? ""}</p>
      <p className="mt-1 text-sm text-soft">It goes back by itself. The program must also speak in that detail.</p>
    </div>
  );
}
