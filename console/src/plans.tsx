import { useMutation, useQuery } from "@tanstack/react-query";
import { Tabs } from "radix-ui";
import { useEffect, useState } from "react";
import { Link, useLocation, useSearchParams } from "react-router";
import { checkPlan, compare, explain, get, type Cell, type Checked, type Compared, type Explained, type Rec } from "./api";
import { Editor } from "./editor";
import { size } from "./size";
import { severities, Severity } from "./severity";
import { count } from "./time";
import { keys, useCasks, useFleet, useLast, usePlan } from "./queries";
import { Alert, Button, control } from "./ui";

const starter = `oakbarrel: 1
intakes:
  local: {syslog: {socket: /dev/log}}
rules:
  - {name: faults, when: severity at least error, send: [faults, everything]}
otherwise: {send: [everything]}
outlets:
  everything: {file: {path: /var/log/oakbarrel/all.log, roll: {size: 50MiB, every: day}, keep: {pieces: 20}, compress: zstd}}
  faults:     {file: {path: /var/log/oakbarrel/faults.log, roll: {every: week}, keep: {days: 365}}}
`;

const drafts = new Map<string, string>(); // what was changed here and is in force nowhere, by agent

const empty: Checked = { findings: [], outlets: [], rules: [], about: [], cells: [] };

// Plans: see what a plan does before it does it.
export default function Plans() {
  const [params, setParams] = useSearchParams();
  const hosts = useFleet();
  const host = params.get("host") ?? (hosts.data?.find((h) => !h.served) ?? hosts.data?.[0])?.agent_id ?? "";
  const shown = hosts.data?.find((h) => h.agent_id === host);
  const served = shown?.plan;
  const inForce = usePlan(host);
  const [written, setWritten] = useState(drafts); // a new map with each change
  const [checked, setChecked] = useState<Checked>(empty);
  const [valid, setValid] = useState<Checked>(empty); // as it was without errors last
  const [problem, setProblem] = useState("");
  const [line, setLine] = useState("");
  const [record, setRecord] = useState<Rec | undefined>(useLocation().state?.record); // brought from Logs
  const [tab, setTab] = useState(record ? "explain" : "matrix");
  const own = inForce.data?.text ?? (host && !inForce.error ? "" : starter);
  const text = written.get(host) ?? own;
  const setText = (changed: string) => {
    if (changed === own) drafts.delete(host);
    else drafts.set(host, changed);
    setWritten(new Map(drafts));
  };
  useEffect(() => {
    if (!text) return;
    const abort = new AbortController();
    const timer = setTimeout(() => {
      checkPlan(text, abort.signal).then(
        (c) => {
          setChecked(c);
          setProblem("");
          if (c.cells.length) setValid(c);
        },
        (e) => !abort.signal.aborted && setProblem(e.message),
      );
    }, 250);
    return () => {
      clearTimeout(timer);
      abort.abort();
    };
  }, [text]);
  const errors = checked.findings.filter((f) => f.kind === "error").length;
  const warnings = checked.findings.length - errors;
  const trigger = "px-3 py-1.5 text-soft hover:text-ink data-[state=active]:border-b-2 data-[state=active]:border-amber data-[state=active]:font-semibold data-[state=active]:text-ink";
  return (
    <div className="grid h-full min-h-0 content-start gap-3 grid-rows-[auto_50vh_minmax(24rem,auto)] overflow-y-auto p-3 sm:p-5 lg:grid-cols-[minmax(0,5fr)_minmax(0,6fr)] lg:grid-rows-[auto_minmax(0,1fr)] lg:overflow-hidden">
      <h1 className="sr-only">Plans</h1>
      <div className="flex flex-wrap items-center gap-3 lg:col-span-2">
        <select aria-label="host" className={control} value={host} onChange={(e) => setParams({ host: e.target.value })}>
          {hosts.data?.length === 0 && <option value="">no host yet</option>}
          {hosts.data?.map((h) => <option key={h.agent_id} value={h.agent_id}>{h.host}</option>)}
        </select>
        <span className="text-sm" role="status">
          {problem || (errors ? `${count(errors)} to mend` : warnings ? `${count(warnings)} to look at` : text === own ? "in force, nothing to mend" : "changed here, nothing to mend")}
        </span>
        {text !== own && <Button look="link" onClick={() => setText(own)}>back to what is in force</Button>}
        <Button look="link" onClick={() => navigator.clipboard?.writeText(text)}>copy</Button>
        <span className="hidden text-sm text-soft xl:inline">{served ? <>It comes from the service: change it as <Link className="underline" to={`/fleet/${served}`}>plan {served}</Link>.</> : "What you change here stays here: copy it to the host's plan file, then kill -HUP the agent."}</span>
      </div>
      <Editor text={text} findings={checked.findings} onChange={setText} />
      <Tabs.Root value={tab} onValueChange={setTab} className="flex min-h-0 flex-col rounded-lg border border-line bg-sheet">
        <Tabs.List className="flex border-b border-line px-2">
          <Tabs.Trigger value="matrix" className={trigger}>Matrix</Tabs.Trigger>
          <Tabs.Trigger value="explain" className={trigger}>Explain</Tabs.Trigger>
          <Tabs.Trigger value="compare" className={trigger}>Compare</Tabs.Trigger>
        </Tabs.List>
        <Tabs.Content value="matrix" className="min-h-0 overflow-auto p-3">
          <Matrix checked={valid} stale={errors > 0} onPick={(c) => { setLine(`<${priorityOf(c)}>1 - ${shown?.host ?? "host"} app 1 - - text`); setRecord(undefined); setTab("explain"); }} />
        </Tabs.Content>
        <Tabs.Content value="explain" className="min-h-0 overflow-auto p-3"><Explain host={shown?.host} text={text} line={line} record={record} onRecord={setRecord} onLine={(l) => { setLine(l); setRecord(undefined); }} /></Tabs.Content>
        <Tabs.Content value="compare" className="min-h-0 overflow-auto p-3"><Compare old={inForce.data?.text} text={text} /></Tabs.Content>
      </Tabs.Root>
    </div>
  );
}

const facilities = "kern user mail daemon auth syslog lpr news uucp cron authpriv ftp ntp audit console cron2 local0 local1 local2 local3 local4 local5 local6 local7".split(" ");
const priorityOf = (c: Cell) => facilities.indexOf(c.facility) * 8 + severities.indexOf(c.severity);

// Matrix shows where each facility and severity can go, and how many such records came in the last hour.
function Matrix({ checked, stale, onPick }: { checked: Checked; stale: boolean; onPick: (c: Cell) => void }) {
  const counts = useQuery({
    queryKey: keys.priorities,
    queryFn: async ({ signal }) => {
      const since = new Date(Date.now() - 3600e3).toISOString();
      const found = await get<{ by: { key: string; count: number }[] }>(`/counts?by=priority&since=${since}`, signal);
      return Object.fromEntries(found.by.map((c) => [c.key, c.count]));
    },
    refetchInterval: 60000,
  });
  const [lit, setLit] = useState(-1); // the rule whose cells are lit
  if (!checked.cells.length) return <p className="text-soft">The matrix appears once the plan has no errors.</p>;
  const letter = (name: string) => String.fromCharCode(97 + checked.outlets.indexOf(name));
  const color = (name: string) => `var(--out${checked.outlets.indexOf(name) % 8})`;
  const most = Math.max(1, ...Object.values(counts.data ?? {}));
  const shade = (n?: number) => (n ? 0.22 + (0.38 * Math.log(1 + n)) / Math.log(1 + most) : 0.08); // the more came, the deeper
  return (
    <div className={stale ? "opacity-50" : ""}>
      <ul className="mb-2 flex flex-wrap gap-x-4 text-sm">
        {checked.outlets.map((o) => <li key={o}><span aria-hidden className="mr-1 inline-block h-2.5 w-2.5 rounded-sm" style={{ background: color(o) }} /><b className="font-mono">{letter(o)}</b> {o}</li>)}
        <li className="text-soft">? depends on more · – nowhere · small, and the depth of the colour: records of the last hour, of every host</li>
      </ul>
      <ul className="mb-2 flex flex-wrap gap-1.5 text-sm" aria-label="rules">
        {checked.rules.map((r, i) => (
          <li key={i}>
            <button className={`rounded border border-line px-2 ${lit === i ? "bg-wash text-amber" : "text-soft"}`} title="light the cells that this rule is about" onMouseEnter={() => setLit(i)} onMouseLeave={() => setLit(-1)} onFocus={() => setLit(i)} onBlur={() => setLit(-1)}>{r}</button>
          </li>
        ))}
      </ul>
      <table className="border-separate border-spacing-0 text-sm">
        <thead><tr><td />{severities.map((s) => <th key={s} className="px-1 pb-1 text-left text-xs font-normal text-soft">{s}</th>)}</tr></thead>
        <tbody>
          {facilities.map((f, i) => (
            <tr key={f}>
              <th className="pr-2 text-left font-normal text-soft">{f}</th>
              {checked.cells.slice(i * 8, i * 8 + 8).map((c, s) => {
                const about = lit >= 0 && checked.about[lit]?.[i * 8 + s] !== "0";
                const names = checked.outlets.filter((o) => c.surely.includes(o) || c.maybe.includes(o));
                const n = counts.data?.[`${c.facility}.${c.severity}`];
                const ways = names.map((o) => `${o}${c.maybe.includes(o) ? " (depends)" : ""}`).join(", ") || "nowhere";
                return (
                  <td key={c.severity} className={`relative border-t border-line p-0 ${about ? "outline-2 -outline-offset-2 outline-amber" : ""}`}>
                    <span aria-hidden className="absolute inset-0 flex gap-px">{names.map((o) => <span key={o} className="flex-1" style={{ background: color(o), opacity: shade(n) * (c.maybe.includes(o) ? 0.5 : 1) }} />)}</span>
                    <button className="relative flex w-full items-baseline gap-1 px-1 text-left hover:underline" title={`${c.facility}.${c.severity}: ${ways}${n ? `; ${count(n)} in the last hour` : ""}`} onClick={() => onPick(c)}>
                      <span className="font-mono text-xs">{names.map((o) => <span key={o} className={c.maybe.includes(o) ? "text-soft" : ""}>{letter(o)}{c.maybe.includes(o) ? "?" : ""}</span>)}{c.nowhere === "always" ? "–" : c.nowhere === "maybe" ? <span className="text-soft">–?</span> : ""}</span>
                      {n ? <span className="text-[10px] text-soft">{count(n)}</span> : null}
                    </button>
                  </td>
                );
              })}
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}

// mostOffered is how many of a host's last records are offered to be explained.
const mostOffered = 8;

function Explain({ host, text, line, record, onRecord, onLine }: { host?: string; text: string; line: string; record?: Rec; onRecord: (r: Rec) => void; onLine: (line: string) => void }) {
  const last = useLast(host, mostOffered);
  const [intake, setIntake] = useState("");
  const ask = useMutation({ mutationFn: () => explain(text, record ? { record } : { line, intake: intake || undefined }) });
  const x = ask.data;
  useEffect(() => {
    if (record && text) ask.mutate();
  }, [record, text]);
  return (
    <div>
      <form className="mb-3 flex gap-2" onSubmit={(e) => { e.preventDefault(); ask.mutate(); }}>
        <input aria-label="message" spellCheck={false} className="min-w-0 flex-1 rounded border border-line bg-paper px-3 py-1.5 font-mono text-sm" placeholder="<131>1 - kelp-01 ticketd 2201 - - order 4471 failed" value={line} onChange={(e) => onLine(e.target.value)} />
        <input aria-label="intake" spellCheck={false} className={`${control} w-28`} placeholder="by intake" title="the intake that it comes by: it is read as that one does" value={intake} onChange={(e) => setIntake(e.target.value)} />
        <Button disabled={!line}>Explain</Button>
      </form>
      {record && <p className="mb-3 text-sm text-soft">The record, judged by the plan as it stands here:</p>}
      {ask.error && <Alert>{ask.error.message}</Alert>}
      {x && <Explanation x={x} />}
      {last.data && last.data.length > 0 && (
        <>
          <h3 className="mt-4 mb-1 text-sm font-semibold">What came last from {host}</h3>
          <ul className="text-sm">
            {last.data.map((r, i) => (
              <li key={i} className="border-t border-line">
                <button className="flex w-full items-baseline gap-2 py-1 text-left hover:bg-wash" title="explain it" onClick={() => onRecord(r)}>
                  <Severity name={r.severity} /> <b className="font-semibold">{r.app}</b> <span className="truncate font-mono text-xs">{r.text}</span>
                </button>
              </li>
            ))}
          </ul>
        </>
      )}
    </div>
  );
}

function Explanation({ x }: { x: Explained }) {
  return (
    <>
      <p className="mb-2"><Severity name={x.record.severity} /> {x.record.facility} {x.record.host} <b className="font-semibold">{x.record.app}</b> <span className="font-mono text-sm [overflow-wrap:anywhere]">{x.record.text}</span></p>
      {(x.decoded ?? []).length > 0 && <p className="mb-2 text-sm text-soft">decode: {(x.decoded ?? []).map((t) => `${t.form} ${t.fits ? "fits" : "does not fit"}`).join(", ")}</p>}
      {x.record.fields && <p className="mb-2 font-mono text-xs [overflow-wrap:anywhere]">{JSON.stringify(x.record.fields)}</p>}
      <table className="mb-3 w-full text-sm">
        <tbody>
          {x.rules.map((r, i) => (
            <tr key={i} className={r.reached ? "" : "text-soft"}>
              <td className="w-14 border-t border-line py-1 align-top font-semibold">{r.reached ? (r.matched ? "yes" : "no") : r.matched ? "(yes)" : "(no)"}</td>
              <td className="border-t border-line py-1 pr-3 align-top whitespace-nowrap">{r.name}</td>
              <td className="border-t border-line py-1 align-top [overflow-wrap:anywhere]">{r.because}{r.changes.map((c) => <div key={c} className="text-amber">→ {c}</div>)}</td>
            </tr>
          ))}
        </tbody>
      </table>
      <p className="font-semibold">
        {x.goes_to.length ? `It goes to ${x.goes_to.join(", ")}${x.otherwise ? ", by otherwise" : ""}.` : x.dropped_by ? `Rule ${x.dropped_by} drops it.` : "It goes nowhere: no rule sends it, and otherwise drops it."}
      </p>
    </>
  );
}

function Compare({ old, text }: { old?: string; text: string }) {
  const [cask, setCask] = useState("");
  const [hours, setHours] = useState(1);
  const casks = useCasks();
  const run = useMutation({ mutationFn: () => compare({ old: old!, new: text, cask: cask || undefined, since: new Date(Date.now() - hours * 3600e3).toISOString() }) });
  useEffect(() => {
    if (old && text) run.mutate();
  }, [old, cask, hours]);
  if (!old) return <p className="text-soft">A host that has told its plan is needed, to compare what is in force with what you write.</p>;
  return (
    <div>
      <form className="mb-3 flex flex-wrap items-center gap-2" onSubmit={(e) => { e.preventDefault(); run.mutate(); }}>
        <span className="text-sm text-soft">What is in force against what you write, over</span>
        <select aria-label="cask" className={control} value={cask} onChange={(e) => setCask(e.target.value)}><option value="">every cask</option>{casks.data?.map((c) => <option key={c.name}>{c.name}</option>)}</select>
        <select aria-label="span" className={control} value={hours} onChange={(e) => setHours(Number(e.target.value))}>{[1, 6, 24, 168].map((h) => <option key={h} value={h}>last {h} h</option>)}</select>
        <Button disabled={run.isPending}>{run.isPending ? "judging…" : "Compare"}</Button>
      </form>
      {run.error && <Alert>{run.error.message}</Alert>}
      {run.data && <Comparison c={run.data} />}
    </div>
  );
}

function Comparison({ c }: { c: Compared }) {
  const cell = "border-t border-line py-1 pr-4 text-left";
  return (
    <>
      <p className="mb-3">
        {count(c.records)} records: {count(c.same)} as before, {count(c.moved)} somewhere else, <b className={c.no_longer_kept ? "font-semibold" : "font-normal"} style={c.no_longer_kept ? { color: "var(--sev3)" } : {}}>{count(c.no_longer_kept)} kept no longer</b>, {count(c.newly_kept)} kept only now.
      </p>
      <table className="mb-3 text-sm">
        <thead><tr><th className={cell}>outlet</th><th className={cell}>before</th><th className={cell}>after</th><th className={cell}>a day before</th><th className={cell}>a day after</th></tr></thead>
        <tbody>
          {c.outlets.map((o) => (
            <tr key={o.name}><td className={cell}>{o.name}</td><td className={cell}>{count(o.old_records)}</td><td className={cell}>{count(o.new_records)}</td><td className={cell}>{o.old_bytes_a_day === null ? "" : size(o.old_bytes_a_day)}</td><td className={cell}>{o.new_bytes_a_day === null ? "" : size(o.new_bytes_a_day)}</td></tr>
          ))}
        </tbody>
      </table>
      <ul>
        {c.changes.map((w, i) => (
          <li key={i} className="mb-2 border-t border-line pt-2">
            <b className="font-semibold">{count(w.records)}</b> from {w.from.join(", ") || "nowhere"} to {w.to.join(", ") || "nowhere"}
            <div className="text-sm text-soft">rules before: {w.old_rules.join(", ") || "otherwise"}; after: {w.new_rules.join(", ") || "otherwise"}</div>
            {w.examples.map((r, j) => <div key={j} className="truncate font-mono text-xs">{r.severity} {r.app}: {r.text}</div>)}
          </li>
        ))}
      </ul>
    </>
  );
}
