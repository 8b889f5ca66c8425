import { useMutation, useQuery } from "@tanstack/react-query";
import { Send } from "lucide-react";
import { Link } from "react-router";
import { get, orderTestRecord, type Account, type Host } from "./api";
import { Histogram } from "./histogram";
import { severities, Severity } from "./severity";
import { ago, count } from "./time";

const span = 60 * 60 * 1000;

// Today: is everything heard, kept and delivered?
export default function Today() {
  const hosts = useQuery({ queryKey: ["status"], queryFn: ({ signal }) => get<Host[]>("/status", signal), refetchInterval: 2000 });
  const rates = useQuery({
    queryKey: ["today"],
    queryFn: async ({ signal }) => {
      const until = Math.ceil(Date.now() / 60000) * 60000;
      const since = until - span;
      const counts = await get<number[][]>(`/histogram?parts=60&since=${new Date(since).toISOString()}&until=${new Date(until).toISOString()}`, signal);
      return { since, until, counts };
    },
    refetchInterval: 5000,
  });
  const problem = hosts.error ?? rates.error;
  const totals = severities.map((_, s) => rates.data?.counts.reduce((sum, c) => sum + c[s], 0) ?? 0);
  return (
    <div className="h-full overflow-y-auto p-3 sm:p-5">
      {problem && <p role="alert" className="mb-4 rounded bg-wash px-3 py-2">{problem.message}</p>}
      <section className="rounded-lg border border-line bg-sheet p-4">
        <h2 className="mb-3 text-lg font-semibold">Records in the store, the last hour</h2>
        {rates.data && <Histogram {...rates.data} height={120} />}
        <ul className="mt-3 flex flex-wrap gap-x-6 gap-y-1">
          {severities.map((name, s) => (
            <li key={name}>
              <Link className="inline-flex items-baseline gap-2 hover:underline" to={`/logs?range=1h&q=${encodeURIComponent(`severity is ${name}`)}`}>
                <Severity name={name} /> {count(totals[s])}
              </Link>
            </li>
          ))}
        </ul>
      </section>
      <section className="mt-4 rounded-lg border border-line bg-sheet p-4">
        <h2 className="mb-3 text-lg font-semibold">Hosts</h2>
        {hosts.data?.length === 0 && (
          <p className="text-soft">
            No agent has been heard yet. In a host's plan, name this service and a store outlet, then: <code className="font-mono text-sm">oakbarrel agent --plan /etc/oakbarrel/plan.yaml</code>
          </p>
        )}
        <ul>{hosts.data?.map((h) => <HostRow key={h.agent_id} host={h} />)}</ul>
      </section>
    </div>
  );
}

function troublesOf(h: Host): string[] {
  const s = h.status;
  const list: string[] = [];
  if (Date.now() - new Date(h.last_heard).getTime() > 20000) list.push(`not heard for a while, last ${ago(h.last_heard)}`);
  if (!s.balance.closes) list.push(`the balance does not close: ${count(s.balance.difference)} records are unaccounted for`);
  if (s.plan.refused) list.push(`a plan was not taken: ${s.plan.refused.why}`);
  for (const o of s.outlets) {
    if (o.trouble) list.push(`${o.name}: ${o.trouble}`);
    if (o.shed > 0) list.push(`${o.name} has shed ${count(o.shed)} records`);
  }
  for (const i of s.intakes) if (i.missed > 0) list.push(`${i.name}: the kernel dropped ${count(i.missed)} datagrams`);
  return list;
}

function HostRow({ host: h }: { host: Host }) {
  const s = h.status;
  const troubles = troublesOf(h);
  const last = s.intakes.map((i) => i.last_record).filter(Boolean).sort().at(-1);
  const cell = "w-32 sm:w-40";
  return (
    <li className="flex flex-wrap gap-x-4 gap-y-2 border-t border-line py-2">
      <div className={cell}>
        <span aria-hidden className="mr-2" style={{ color: troubles.length ? "var(--sev3)" : "var(--sev5)" }}>{troubles.length ? "▲" : "●"}</span>
        <Link className="font-semibold hover:underline" to={`/logs?range=1h&q=${encodeURIComponent(`host is "${h.name}"`)}`}>{h.name}</Link>
        <div className="text-sm text-soft">heard {ago(h.last_heard)}</div>
      </div>
      <div className={cell}>{count(s.rules.in)} in<div className="text-sm text-soft">last record {ago(last)}</div></div>
      <div className={cell}>{count(s.rules.routed)} routed<div className="text-sm text-soft">{count(s.rules.dropped)} dropped by rules</div></div>
      <div className={cell}>{count(h.held)} waiting<div className="text-sm text-soft">plan <span className="font-mono">{h.plan_hash.slice(0, 8)}</span></div></div>
      <div className="min-w-48 flex-1 [overflow-wrap:anywhere]">
        {troubles.length === 0 ? <span className="text-soft">in order</span> : troubles.map((t) => <div key={t}>{t}</div>)}
        <TestRecord host={h} />
      </div>
    </li>
  );
}

// TestRecord lets who may order it send a record through a host's rules, and tells where it went.
function TestRecord({ host: h }: { host: Host }) {
  const session = useQuery({ queryKey: ["session"], queryFn: () => get<Account>("/session") });
  const test = useMutation({ mutationFn: () => orderTestRecord(h.agent_id) });
  if (!session.data || session.data.role === "viewer") return null;
  const { text = "", goes_to: outlets = [], why } = test.data?.outcome ?? {};
  const kept = h.status.outlets.some((o) => o.kind === "store" && outlets.includes(o.name));
  return (
    <div className="text-sm text-soft" aria-live="polite">
      <button className="inline-flex items-center gap-1.5 py-0.5 hover:text-ink disabled:opacity-60" disabled={test.isPending} onClick={() => test.mutate()}>
        <Send size={13} aria-hidden /> {test.isPending ? "waiting for the agent…" : "Send a test record"}
      </button>
      {test.error && <div role="alert">{test.error.message}</div>}
      {test.data && (
        <div>
          {why ?? (outlets.length === 0 ? `${text}: dropped by the rules` : `${text}: went to ${outlets.join(", ")}`)}
          {kept ? <>; <Link className="underline hover:text-ink" to={`/logs?range=15m&live=1&q=${encodeURIComponent(`text is "${text}"`)}`}>see it in the store</Link></> : !why && "; the rules send it to no store"}
        </div>
      )}
    </div>
  );
}
