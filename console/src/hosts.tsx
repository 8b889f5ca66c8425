import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useParams } from "react-router";
import { setLabels, type FleetHost, type Host, type Outlet } from "./api";
import { DetailWindows } from "./detail";
import { Containers } from "./containers";
import { Files } from "./files";
import { Followed } from "./followed";
import { Invite } from "./invite";
import { size } from "./size";
import { TestRecord } from "./testrecord";
import { ago, clock, count, day } from "./time";
import { keys, useHost, useMayOperate, useOverview } from "./queries";
import { Alert, Button, Card, control, Field, Table } from "./ui";

// waits tells since when the records of an outlet wait, and when it tries again.
function waits(o: Outlet): string {
  const parts = [];
  if (o.held_since) parts.push(`the oldest came ${ago(o.held_since)}`);
  if (o.next_try) parts.push(`the next try is in ${Math.max(0, Math.round((new Date(o.next_try).getTime() - Date.now()) / 1000))} s`);
  return parts.length > 0 ? ` (${parts.join("; ")})` : "";
}

export function Health({ host }: { host?: FleetHost }) {
  const well = !host || host.summary.troubles.length === 0;
  return <span aria-hidden className="mr-2" style={{ color: well ? "var(--sev5)" : "var(--sev3)" }}>{well ? "●" : "▲"}</span>;
}

const mostShown = 200;

// Hosts lists the agents that were heard, those that need a person first.
export default function Hosts() {
  const [search, setSearch] = useState("");
  const overview = useOverview(search, mostShown);
  const o = overview.data;
  return (
    <div className="h-full overflow-auto p-3 sm:p-5">
      <h1 className="sr-only">Hosts</h1>
      {overview.error && <Alert className="mb-4">{overview.error.message}</Alert>}
      <Card title="Hosts">
        {o?.all === 0 && <NoHosts />}
        {o && o.all > 1 && (
          <p className="mb-3 flex flex-wrap items-center gap-3">
            <input type="search" aria-label="search hosts" placeholder="name, label=value, plan or trouble" maxLength={256} className={`${control} w-72`} value={search} onChange={(e) => setSearch(e.target.value)} />
            <span className="text-sm text-soft" role="status">{o.found === o.all ? `${count(o.all)} hosts` : `${count(o.found)} of ${count(o.all)} hosts`}, {count(o.need)} need a look</span>
          </p>
        )}
        <ul>
          {o?.hosts.map((h) => <HostRow key={h.agent_id} host={h} />)}
        </ul>
        {o && o.found > o.hosts.length && <p className="border-t border-line pt-2 text-soft">and {count(o.found - o.hosts.length)} more; search for those that you mean</p>}
      </Card>
      <Invite />
    </div>
  );
}

// planText tells which plan of the service a host has.
const planText = (f: FleetHost) => (f.served ? (f.plan ? `${f.plan} ${f.revision}` : "no plan yet") : "");

function HostRow({ host: h }: { host: FleetHost }) {
  const labels = Object.entries(h.labels).map(([name, value]) => `${name}=${value}`);
  return (
    <li className="grid grid-cols-2 gap-x-4 border-t border-line py-2 sm:grid-cols-[10rem_8rem_8rem_6rem_11rem_1fr]">
      <div><Health host={h} /><Link className="font-semibold hover:underline" to={`/hosts/${h.agent_id}`}>{h.host}</Link></div>
      <div className="text-soft">heard {ago(h.last_heard)}<span className="block text-xs">{h.version}</span></div>
      <div>{count(h.summary.in)} in</div>
      <div>{count(h.held)} waiting</div>
      <div className="text-sm">{planText(h)}<span className="block text-xs text-soft">{labels.join(" ")}</span></div>
      <div className="col-span-2 text-sm text-soft sm:col-span-1 [overflow-wrap:anywhere]">{h.drift && <span className="block text-ink">plan: {h.drift}</span>}{h.summary.troubles.join("; ") || (h.drift ? "" : "in order")}</div>
    </li>
  );
}

// PlanOfHost tells which plan of the service a host has, and is to have, and changes its labels and values.
function PlanOfHost({ host: f }: { host: FleetHost }) {
  const mayOperate = useMayOperate();
  const client = useQueryClient();
  const [word, setWord] = useState("");
  const set = useMutation({
    mutationFn: ({ kind, name, value }: { kind: "labels" | "values"; name: string; value: string }) => setLabels(f.agent_id, { [kind]: { [name]: value } }),
    onSuccess: () => { setWord(""); client.invalidateQueries({ queryKey: keys.overviews }); },
  });
  const [name, ...rest] = word.split("=");
  const change = (kind: "labels" | "values") => set.mutate({ kind, name: (name ?? "").trim(), value: rest.join("=").trim() });
  const list = (kind: "labels" | "values") => Object.entries(f[kind]).map(([name, value]) => (
    <span key={name} className="mr-2 inline-block rounded border border-line bg-paper px-2 text-sm">{name}={value}{mayOperate && !name.startsWith("own/") && name !== "system" && <button className="ml-1 text-soft hover:text-ink" aria-label={`take away ${name}`} onClick={() => set.mutate({ kind, name, value: "" })}>×</button>}</span>
  ));
  const facts: [string, React.ReactNode][] = [
    ["has", f.served ? (f.plan ? `plan ${f.plan}, revision ${f.revision}${f.state === "judged" ? ", which it judges still" : ""}` : "no plan yet") : "a plan of its own (plan: own)"],
    ["is to have", f.assigned ? (mayOperate ? <Link className="underline" to={`/fleet/${f.assigned}`}>plan {f.assigned}{f.in_force ? `, revision ${f.in_force}` : ", of which nothing is rolled out yet"}</Link> : `plan ${f.assigned}`) : "none"],
    ["because", f.why],
    ["labels", list("labels")],
    ["values", list("values")],
  ];
  return (
    <Card nested title="Plan" className="mb-4">
      {f.drift && <p className="mb-2 rounded bg-wash px-3 py-2 [overflow-wrap:anywhere]">▲ {f.drift}</p>}
      <dl className="grid grid-cols-[6rem_1fr] gap-y-1">
        {facts.map(([name, value]) => <div key={name} className="contents"><dt className="text-soft">{name}</dt><dd className="[overflow-wrap:anywhere]">{value}</dd></div>)}
      </dl>
      {mayOperate && (
        <form className="mt-2 flex flex-wrap items-center gap-2" onSubmit={(e) => { e.preventDefault(); change("labels"); }}>
          <Field name="NAME=VALUE" className="w-48" placeholder="role=gate" pattern="[^=]+=.+" required value={word} onChange={(e) => setWord(e.target.value)} />
          <Button look="plain" disabled={rest.length === 0}>Set the label</Button>
          <Button look="plain" type="button" disabled={rest.length === 0} onClick={() => change("values")}>Set the value</Button>
          {set.error && <span className="text-sm">{set.error.message}</span>}
        </form>
      )}
    </Card>
  );
}

export function NoHosts() {
  return (
    <p className="text-soft">
      No agent has been heard yet. In a host's plan, name this service and a store outlet, then: <code className="font-mono text-sm">oakbarrel agent --plan /etc/oakbarrel/plan.yaml</code>
    </p>
  );
}

// HostPage shows one host: where its records come from, go, and wait.
export function HostPage() {
  const { id } = useParams();
  const host = useHost(id ?? "");
  const of = useOverview(id ?? "", 1).data?.hosts[0];
  const h = host.data;
  if (!h) return <p className="p-5 text-soft">{host.isPending ? "" : `${host.error?.message}. The page Hosts lists those that have been.`}</p>;
  const s = h.status;
  const cell = "border-t border-line py-1 pr-4 align-top";
  return (
    <div className="h-full overflow-auto p-3 sm:p-5">
      <h1 className="sr-only">Host</h1>
      <header className="mb-4 flex flex-wrap items-baseline gap-x-6 gap-y-1">
        <h2 className="text-xl font-semibold"><Health host={of} />{h.name}</h2>
        <span className="text-soft">heard {ago(h.last_heard)}, runs since {day(new Date(s.since))} {clock(new Date(s.since))}{s.version?.version ? <span title={[s.version.commit, s.version.go, s.version.built].filter(Boolean).join(", ")}>, version {s.version.version}</span> : ""}</span>
        <Link className="hover:underline" to={`/logs?range=1h&q=${encodeURIComponent(`agent is "${h.name}"`)}`}>its records</Link>
        <Link className="hover:underline" to={`/plans?host=${h.agent_id}`}>its plan <span className="font-mono text-sm">{h.plan_hash.slice(0, 8)}</span></Link>
      </header>
      {of?.summary.troubles.map((t) => <p key={t} className="mb-2 rounded bg-wash px-3 py-2 [overflow-wrap:anywhere]">{t}</p>)}
      {of && <PlanOfHost host={of} />}
      <Card nested title="Balance" className="mb-4">
        <Balance host={h} />
      </Card>
      <Card nested title="Intakes" className="mb-4">
        <Table columns={["name", "read", "missed", "last record", "listens on"]}>
            {s.intakes.map((i) => (
              <tr key={i.name}><td className={cell}>{i.name}</td><td className={cell}>{count(i.read)}</td><td className={cell}>{count(i.missed)}</td><td className={cell}>{ago(i.last_record)}</td><td className={`${cell} font-mono text-xs [overflow-wrap:anywhere]`}>{i.addresses.join("  ") || i.kind}</td></tr>
            ))}
        </Table>
      </Card>
      <Card nested title="Outlets" className="mb-4">
        <Table columns={["name", "in", "out", "waiting", "pieces", "to"]}>
            {s.outlets.map((o) => (
              <tr key={o.name}><td className={cell}>{o.name}</td><td className={cell}>{count(o.in)}</td><td className={cell}>{count(o.out)}</td><td className={cell}>{count(o.held)}</td><td className={cell}>{o.kind === "file" ? `${o.pieces}, ${size(o.piece_bytes)}` : ""}</td><td className={`${cell} font-mono text-xs [overflow-wrap:anywhere]`}>{o.path}</td></tr>
            ))}
        </Table>
      </Card>
      {h.status.containers && h.status.containers.length > 0 && <Card nested title="Containers" className="mb-4"><Containers containers={h.status.containers} /></Card>}
      {h.status.followed && h.status.followed.length > 0 && <Card nested title="Followed files" className="mb-4"><Followed files={h.status.followed} /></Card>}
      <Card nested title="Files" className="mb-4"><Files host={h} /></Card>
      <div className="grid gap-4 sm:grid-cols-2">
        <Card nested title="Test"><TestRecord host={h} /></Card>
        <Card nested title="Detail windows"><DetailWindows host={h} /></Card>
      </div>
    </div>
  );
}


// Balance draws what came in and where it went, so that it can be seen to close.
function Balance({ host: h }: { host: Host }) {
  const s = h.status;
  const column = "flex min-w-0 flex-col justify-center gap-2 sm:flex-1 sm:basis-40";
  const box = "rounded border border-line bg-paper px-3 py-1.5";
  const arrow = <div aria-hidden className="hidden self-center text-soft sm:block">→</div>;
  return (
    <>
      <div className="flex flex-col gap-3 sm:flex-row">
        <div className={column}>{s.intakes.map((i) => <div key={i.name} className={box}><b className="font-semibold">{i.name}</b> {count(i.read)}{i.missed > 0 && <span className="text-soft">, missed {count(i.missed)}</span>}</div>)}</div>
        {arrow}
        <div className={column}>
          <div className={box}><b className="font-semibold">rules</b> {count(s.rules.in)}<div className="text-sm text-soft">{count(s.rules.routed)} routed, {count(s.rules.dropped)} dropped</div></div>
        </div>
        {arrow}
        <div className={column}>{s.outlets.map((o) => <OutletBox key={o.name} outlet={o} className={box} />)}</div>
      </div>
      <p className="mt-3 text-sm text-soft">{s.balance.closes ? "It closes: nothing is lost that is not counted." : `It does not close: ${count(s.balance.difference)} records are unaccounted for. This is a bug of ours.`}</p>
    </>
  );
}

function OutletBox({ outlet: o, className }: { outlet: Outlet; className: string }) {
  const parts = [`${count(o.out)} out`];
  if (o.held > 0) parts.push(`${count(o.held)} waiting${waits(o)}`);
  if (o.shed > 0) parts.push(`${count(o.shed)} shed`);
  if (o.refused > 0) parts.push(`${count(o.refused)} refused`);
  return <div className={className}><b className="font-semibold">{o.name}</b> {count(o.in + o.held_at_start)}<div className="text-sm text-soft">{parts.join(", ")}</div></div>;
}
