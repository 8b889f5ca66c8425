import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { assign, comparePlan, judgeDraft, putPlan, startRollout, steer, unassign, type ComparedPlan, type JudgedPlan, type PlanLine, type Rollout } from "./api";
import { Editor } from "./editor";
import { keys, useAssignments, useMayOperate, usePlanLines, useRevision, useRevisions, useRollout, useRollouts } from "./queries";
import { size } from "./size";
import { Changes, Revisions } from "./revisions";
import { ago, clock, count, day } from "./time";
import { Alert, Button, Card, control, Field, Table } from "./ui";

const cell = "border-t border-line py-1 pr-4 align-baseline whitespace-nowrap";
const prose = "border-t border-line py-1 pr-4 align-baseline min-w-40 [overflow-wrap:anywhere]"; // of texts that people or hosts wrote
const when = (t: string) => `${day(new Date(t))} ${clock(new Date(t))}`;

// Fleet shows the plans of the service, which hosts they are for, and their roll-outs.
export default function Fleet() {
  if (!useMayOperate()) return <p className="p-5 text-soft">Plans of the service are for operators and admins.</p>;
  return (
    <div className="h-full space-y-3 overflow-auto p-3 sm:p-5">
      <h1 className="text-xl font-semibold">Fleet</h1>
      <Plans />
      <Assignments />
      <Rollouts />
    </div>
  );
}

function Plans() {
  const plans = usePlanLines();
  const navigate = useNavigate();
  const [name, setName] = useState("");
  return (
    <Card title="Plans and parts">
      {plans.error && <Alert>{plans.error.message}</Alert>}
      {plans.data?.length === 0 && <p className="mb-2 text-soft">There is none yet. A plan here is written once, and brought to the hosts that it is assigned to.</p>}
      {plans.data && plans.data.length > 0 && (
        <Table columns={["name", "revision", "in force", "hosts", "of the parts", "by", "when", "why"]}>
          {plans.data.map((p) => (
            <tr key={p.plan}>
              <td className={`${cell} font-semibold`}><Link className="hover:underline" to={`/fleet/${p.plan}`}>{p.plan}</Link>{p.used_by.length > 0 && <span className="font-normal text-soft"> a part</span>}</td>
              <td className={cell}>{p.revision}</td>
              <td className={cell}>{p.in_force || <span className="text-soft">none</span>}{p.in_force > 0 && p.in_force < p.revision && <span className="text-amber">, an older one</span>}</td>
              <td className={cell}>{count(p.hosts)}</td>
              <td className={cell}>{p.parts.join(", ")}</td>
              <td className={cell}>{p.by}</td>
              <td className={cell} title={when(p.at)}>{ago(p.at)}</td>
              <td className={prose}>{p.why}</td>
            </tr>
          ))}
        </Table>
      )}
      <form className="mt-3 flex flex-wrap items-center gap-2" onSubmit={(e) => { e.preventDefault(); navigate(`/fleet/${name}`); }}>
        <Field name="a new plan or part named" required pattern="[A-Za-z0-9_\-][A-Za-z0-9._\-]{0,63}" title="letters, digits and - _ ." className="w-40" value={name} onChange={(e) => setName(e.target.value)} />
        <Button look="plain">Write it</Button>
      </form>
    </Card>
  );
}

function Assignments() {
  const all = useAssignments();
  const plans = usePlanLines();
  const client = useQueryClient();
  const [name, setName] = useState("");
  const [plan, setPlan] = useState("");
  const [condition, setCondition] = useState("");
  const [approve, setApprove] = useState(false);
  const settled = { onSettled: () => { client.invalidateQueries({ queryKey: keys.assignments }); client.invalidateQueries({ queryKey: keys.fleet }); } };
  const add = useMutation({ mutationFn: () => assign({ name, plan, when: condition, approve }), ...settled });
  const remove = useMutation({ mutationFn: unassign, ...settled });
  const problem = all.error ?? add.error ?? remove.error;
  return (
    <Card title="Which hosts get which plan">
      {problem && <Alert className="mb-2">{problem.message}</Alert>}
      {all.data && all.data.length > 0 && (
        <Table columns={["assignment", "plan", "when", "hosts", "by", ""]}>
          {all.data.map((a) => (
            <tr key={a.name}>
              <td className={`${cell} font-semibold`}>{a.name}</td>
              <td className={cell}><Link className="hover:underline" to={`/fleet/${a.plan}`}>{a.plan}</Link></td>
              <td className={`${prose} font-mono text-xs`}>{a.when}</td>
              <td className={cell}>{count(a.hosts ?? 0)}{a.approve && <span className="text-soft">, approved by another</span>}</td>
              <td className={cell}>{a.by}</td>
              <td className={cell}><Button look="link" aria-label={`take away ${a.name}`} title="its hosts keep the plan that they have" onClick={() => remove.mutate(a.name)}>take away</Button></td>
            </tr>
          ))}
        </Table>
      )}
      <form className="mt-3 flex flex-wrap items-center gap-2" onSubmit={(e) => { e.preventDefault(); add.mutate(); }}>
        <Field name="as" required pattern="[A-Za-z0-9_\-][A-Za-z0-9._\-]{0,63}" className="w-32" placeholder="gates" value={name} onChange={(e) => setName(e.target.value)} />
        <label className="flex items-baseline gap-2"><span className="text-soft">plan</span><select aria-label="plan of the assignment" required className={control} value={plan} onChange={(e) => setPlan(e.target.value)}><option value="" />{plans.data?.map((p) => <option key={p.plan}>{p.plan}</option>)}</select></label>
        <Field name="when" required className="w-72 font-mono" placeholder="role is gate and site in (north, south)" value={condition} onChange={(e) => setCondition(e.target.value)} />
        <label className="flex items-baseline gap-2"><input type="checkbox" checked={approve} onChange={(e) => setApprove(e.target.checked)} /> <span className="text-soft">approved by another</span></label>
        <Button look="plain" disabled={add.isPending}>Assign</Button>
      </form>
      <p className="mt-2 text-sm text-soft">Of several that a host meets the most exact decides; the page of a host says which, and why.</p>
    </Card>
  );
}

const states: { [state: string]: string } = { proposed: "waits for approval", running: "under way", paused: "paused", going_back: "going back", done: "done", taken_back: "taken back" };

// Bar shows how many hosts of a roll-out keep the plan (filled), judge it (half), or have failed.
function Bar({ r }: { r: Rollout }) {
  const all = Math.max(1, Object.values(r.counts).reduce((a, b) => a + b, 0));
  const part = (...of: string[]) => `${(100 * of.reduce((sum, s) => sum + (r.counts[s] ?? 0), 0)) / all}%`;
  return (
    <span role="img" aria-label={`${r.counts["kept"] ?? 0} of ${all} hosts keep it`} className="flex h-3 w-40 overflow-hidden rounded border border-line bg-paper">
      <span style={{ width: part("kept"), background: "var(--sev5)" }} />
      <span style={{ width: part("judged", "ordered"), background: "var(--sev4)" }} />
      <span style={{ width: part("failed"), background: "var(--sev2)" }} />
      <span style={{ width: part("back", "going back"), background: "var(--soft)" }} />
    </span>
  );
}

const order = ["kept", "judged", "ordered", "waiting", "silent", "failed", "going back", "back", "away"];
const countsOf = (r: Rollout) => order.filter((s) => r.counts[s]).map((s) => `${r.counts[s]} ${s}`).join(", ");

function Rollouts() {
  const all = useRollouts();
  return (
    <Card title="Roll-outs">
      {all.error && <Alert>{all.error.message}</Alert>}
      {all.data?.length === 0 && <p className="text-soft">Nothing was rolled out yet. The page of a plan begins one.</p>}
      {all.data && all.data.length > 0 && (
        <Table columns={["", "plan", "", "hosts", "state", "by", "when", "why"]}>
          {all.data.map((r) => (
            <tr key={r.id}>
              <td className={`${cell} font-semibold`}><Link className="hover:underline" to={`/rollouts/${r.id}`}>{r.id}</Link></td>
              <td className={cell}>{r.plan}, revision {r.revision}</td>
              <td className={cell}><Bar r={r} /></td>
              <td className={cell}>{countsOf(r)}</td>
              <td className={cell} title={r.note}>{states[r.state]}</td>
              <td className={cell}>{r.by}</td>
              <td className={cell} title={when(r.created)}>{ago(r.created)}</td>
              <td className={prose}>{r.why}</td>
            </tr>
          ))}
        </Table>
      )}
    </Card>
  );
}

const starter = `oakbarrel: 1
parts: []
intakes:
  local: {syslog: {socket: auto}}
rules: []
outlets:
  centre: {store: {cask: gateway}}
otherwise: {send: [centre]}
`;

// PlanPage edits a plan of the service, judges it on its hosts, and rolls it out.
export function PlanPage() {
  const { name = "" } = useParams();
  const lines = usePlanLines();
  const revisions = useRevisions(name);
  const newest = revisions.data?.[0]?.revision ?? 0;
  const last = useRevision(name, newest);
  const line = lines.data?.find((l) => l.plan === name);
  const isNew = !!lines.data && !line;
  const base = last.data?.text ?? (isNew ? starter.replace("parts: []\n", "") : "");
  const [draft, setDraft] = useState<string>();
  const text = draft ?? base;
  const judged = useJudged(name, text);
  const bad = judged?.judged ?? [];
  const good = judged?.in_order ?? 0;
  return (
    <div className="grid h-full min-h-0 content-start gap-3 grid-rows-[auto_50vh_minmax(24rem,auto)] overflow-y-auto p-3 sm:p-5 lg:grid-cols-[minmax(0,5fr)_minmax(0,6fr)] lg:grid-rows-[auto_minmax(0,1fr)] lg:overflow-hidden">
      <div className="flex flex-wrap items-baseline gap-3 lg:col-span-2">
        <h1 className="text-xl font-semibold"><Link to="/fleet" className="text-soft underline hover:text-ink">Fleet</Link> / {name}</h1>
        <span className="text-soft">{isNew ? "not kept yet" : `revision ${newest}, in force ${line?.in_force || "none"}`}{draft !== undefined ? ", changed here" : ""}</span>
        <span role="status">{judged && (bad.length + good > 0 ? `in order on ${count(good)} of ${count(bad.length + good)} hosts` : judged.findings.some((f) => f.kind === "error") ? "there is something to mend" : "no host is assigned to it")}</span>
      </div>
      <Editor text={text} findings={judged?.findings ?? []} onChange={(t) => setDraft(t === base ? undefined : t)} />
      <div className="min-h-0 space-y-3 overflow-y-auto">
        {bad.length > 0 && <OnHosts bad={bad} />}
        <Keep name={name} base={newest} text={text} changed={draft !== undefined} onKept={() => setDraft(undefined)} />
        <Changes name={name} all={revisions.data ?? []} draft={draft} base={base} />
        {line && line.used_by.length === 0 && <RollOut line={line} />}
        {line && line.used_by.length === 0 && <Effect line={line} />}
        {line && line.used_by.length > 0 && <Card title="A part">It is a part of {line.used_by.map((p, i) => <span key={p}>{i > 0 && ", "}<Link className="underline" to={`/fleet/${p}`}>{p}</Link></span>)}. A new revision gives one to each of them, which their pages roll out.</Card>}
        <Revisions all={revisions.data ?? []} />
      </div>
    </div>
  );
}

// useJudged tells on which hosts a text would be in order, a moment after it was changed.
function useJudged(name: string, text: string): JudgedPlan | undefined {
  const [judged, setJudged] = useState<JudgedPlan>();
  useEffect(() => {
    if (!text) return;
    const abort = new AbortController();
    const timer = setTimeout(() => judgeDraft(name, text, abort.signal).then(setJudged, () => {}), 250);
    return () => {
      clearTimeout(timer);
      abort.abort();
    };
  }, [name, text]);
  return judged;
}

const mostShown = 20;

function OnHosts({ bad }: { bad: JudgedPlan["judged"] }) {
  return (
    <Card title="Not in order">
      <ul className="text-sm">
        {bad.slice(0, mostShown).map((h) => <li key={h.agent_id} className="[overflow-wrap:anywhere]"><b className="font-semibold">{h.host}</b> {h.findings.join("; ")}</li>)}
        {bad.length > mostShown && <li className="text-soft">and {count(bad.length - mostShown)} more hosts</li>}
      </ul>
    </Card>
  );
}

function Keep({ name, base, text, changed, onKept }: { name: string; base: number; text: string; changed: boolean; onKept: () => void }) {
  const client = useQueryClient();
  const [why, setWhy] = useState("");
  const put = useMutation({
    mutationFn: () => putPlan(name, { text, why, base }),
    onSuccess: async () => {
      setWhy("");
      await Promise.all([keys.planLines, keys.revisions(name)].map((queryKey) => client.invalidateQueries({ queryKey })));
      onKept();
    },
  });
  return (
    <Card title="Keep it as a revision">
      <form className="flex flex-wrap items-center gap-2" onSubmit={(e) => { e.preventDefault(); put.mutate(); }}>
        <Field name="why" required maxLength={1000} className="w-72" placeholder="quieter probes" value={why} onChange={(e) => setWhy(e.target.value)} />
        <Button disabled={!changed || put.isPending}>Keep</Button>
        {!changed && <span className="text-sm text-soft">nothing is changed</span>}
      </form>
      <p aria-live="polite" className="mt-2 text-sm">{put.error?.message ?? (put.data ? `It is revision ${put.data.revision}. No host has it before it is rolled out.` : "")}</p>
    </Card>
  );
}

function RollOut({ line }: { line: PlanLine }) {
  const navigate = useNavigate();
  const without = line.takers - line.having;
  const [waves, setWaves] = useState("1, 10%, all");
  const [seconds, setSeconds] = useState(60);
  const [why, setWhy] = useState("");
  const start = useMutation({ mutationFn: () => startRollout({ plan: line.plan, revision: line.revision, waves, seconds, why }), onSuccess: (r) => navigate(`/rollouts/${r.id}`) });
  return (
    <Card title={`Roll out revision ${line.revision}`}>
      <p className="mb-2 text-sm text-soft">{line.takers === 0 ? "No host that takes plans is assigned to it." : without === 0 ? `All ${count(line.takers)} hosts have it.` : `${count(without)} of ${count(line.takers)} hosts do not have it. Each judges it, and goes back by itself where it does harm.`}</p>
      <form className="flex flex-wrap items-center gap-2" onSubmit={(e) => { e.preventDefault(); start.mutate(); }}>
        <Field name="in waves" required className="w-32" value={waves} onChange={(e) => setWaves(e.target.value)} />
        <Field name="each judges it for" unit="s" type="number" min={1} max={3600} required className="w-20" value={seconds} onChange={(e) => setSeconds(e.target.valueAsNumber || 60)} />
        <Field name="why" required maxLength={1000} className="w-56" value={why} onChange={(e) => setWhy(e.target.value)} />
        <Button disabled={start.isPending || without === 0}>Roll out</Button>
      </form>
      {start.error && <Alert className="mt-2">{start.error.message}</Alert>}
    </Card>
  );
}

// fromTo tells of bytes before and after.
function fromTo(before: number | null, after: number | null, unknown: string): string {
  const text = (n: number | null) => (n === null ? unknown : size(n));
  return text(before) === text(after) ? text(after) : `${text(before) || "?"} → ${text(after) || "?"}`;
}

// Effect tells what the last revision would do with what came in the last hour, against the one in force.
function Effect({ line }: { line: PlanLine }) {
  const from = line.in_force;
  const run = useMutation({ mutationFn: () => comparePlan(line.plan, { from, to: line.revision, since: new Date(Date.now() - 3600e3).toISOString(), limit: 10000 }) });
  useEffect(() => run.mutate(), [line.plan, line.revision, from]);
  const c: ComparedPlan | undefined = run.data;
  const lost = c?.hosts.reduce((n, h) => n + h.no_longer_kept, 0) ?? 0;
  return (
    <Card title="What it does with the last hour">
      <p className="mb-2 text-sm text-soft">{from ? `revision ${from}, in force, against revision ${line.revision}` : `revision ${line.revision}, against no plan at all`}</p>
      {run.error && <Alert>{run.error.message}</Alert>}
      {c && (
        <>
          <p className="mb-2">{c.hosts.length === 0 ? "No host is assigned to it." : lost > 0 ? <b className="font-semibold" style={{ color: "var(--sev3)" }}>▲ {count(lost)} records kept no longer</b> : "Nothing is kept no longer."}</p>
          {c.hosts.length > 0 && (
            <Table columns={["host", "records", "as before", "elsewhere", "no longer", "new", "a day", "at most"]}>
              {[...(c.hosts.length > 1 ? [c.together] : []), ...c.hosts.slice(0, 200)].map((h) => (
                <tr key={h.agent_id}>
                  <td className={`${cell} font-semibold`}>{h.host}</td>
                  {[h.records, h.same, h.moved, h.no_longer_kept, h.newly_kept].map((n, i) => <td key={i} className={`${cell} ${n ? "" : "text-soft"}`}>{count(n)}</td>)}
                  <td className={cell}>{fromTo(h.old_bytes_a_day, h.new_bytes_a_day, "")}</td>
                  <td className={cell}>{fromTo(h.old_bytes_at_most, h.new_bytes_at_most, "no bound")}</td>
                </tr>
              ))}
            </Table>
          )}
        </>
      )}
    </Card>
  );
}

// RolloutPage shows a roll-out: its waves, its hosts, and what each said.
export function RolloutPage() {
  const { id = "" } = useParams();
  const rollout = useRollout(id);
  const client = useQueryClient();
  const go = useMutation({ mutationFn: (where: string) => steer(id, where), onSuccess: (r) => client.setQueryData(keys.rollout(id), r) });
  const r = rollout.data;
  if (!r) return rollout.error ? <Alert className="m-6">{rollout.error.message}</Alert> : null;
  return (
    <div className="h-full space-y-3 overflow-auto p-3 sm:p-5">
      <h1 className="text-xl font-semibold"><Link to="/fleet" className="text-soft underline hover:text-ink">Fleet</Link> / roll-out {r.id}</h1>
      <Card>
        <div className="flex flex-wrap items-center gap-x-6 gap-y-2">
          <b className="text-lg font-semibold" role="status">{states[r.state]}</b>
          <Bar r={r} />
          <span>{countsOf(r)}</span>
          <span className="flex gap-2">
            {r.state === "running" && <Button look="plain" onClick={() => go.mutate("pause")}>Pause</Button>}
            {(r.state === "paused" || r.state === "proposed") && <Button onClick={() => go.mutate("go-on")}>{r.state === "proposed" ? "Approve" : "Go on"}</Button>}
            {r.state !== "taken_back" && r.state !== "going_back" && <Button look="plain" onClick={() => go.mutate("take-back")}>Take back</Button>}
          </span>
        </div>
        {r.note && <p className="mt-2 [overflow-wrap:anywhere]">{r.note}</p>}
        {go.error && <Alert className="mt-2">{go.error.message}</Alert>}
        <p className="mt-2 text-sm text-soft">
          plan <Link className="underline" to={`/fleet/${r.plan}`}>{r.plan}</Link>, revision {r.revision}, by {r.by}{r.approved && `, approved by ${r.approved}`}, {when(r.created)}: {r.why}. Each host judges it for {r.seconds} s; {r.failures === 1 ? "one host that fails has" : `${r.failures} hosts that fail have`} all of it taken back.
        </p>
      </Card>
      {r.waves.map((n, i) => (
        <Card key={i} title={`Wave ${i + 1}: ${count(n)} ${n === 1 ? "host" : "hosts"}${i + 1 > r.wave ? ", not begun" : ""}`}>
          <Table columns={["host", "state", "since", "what it said"]}>
            {r.hosts.filter((h) => h.wave === i + 1).sort((a, b) => order.indexOf(b.state) - order.indexOf(a.state)).slice(0, 500).map((h) => (
              <tr key={h.agent_id}>
                <td className={`${cell} w-40 font-semibold`}><Link className="hover:underline" to={`/hosts/${h.agent_id}`}>{h.host}</Link></td>
                <td className={`${cell} w-28`}>{h.state === "failed" ? `▲ ${h.state}` : h.state}</td>
                <td className={`${cell} w-36 whitespace-nowrap`}>{ago(h.changed)}</td>
                <td className={prose}>{h.why}</td>
              </tr>
            ))}
          </Table>
        </Card>
      ))}
    </div>
  );
}
