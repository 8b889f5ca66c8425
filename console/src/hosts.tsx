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
import { keys, useFleet, useHosts, useHost, useMayOperate } from "./queries";
import { Alert, Boundary, Button, Card, control, Field, Table } from "./ui";

// waits tells since when the records of an outlet wait, and when it tries again.
function waits(o: Outlet): string {
  const parts = [];
  if (o.held_since) parts.push(`${count(o.held)} records wait, the oldest came ${ago(o.held_since)}`);
  if (o.next_try) parts.push(`the next try is in ${Math.max(0, Math.round((new Date(o.next_try).getTime() - Date.now()) / 1000))} s`);
  return parts.length > 0 ? ` (${parts.join("; ")})` : "";
}

export function troublesOf(h: Host): string[] {
  const s = h.status;
  const list: string[] = [];
  if (Date.now() - new Date(h.last_heard).getTime() > 90000) list.push(`not heard for a while, last ${ago(h.last_heard)}`);
  if (!s.balance.closes) list.push(`the balance does not close: ${count(s.balance.difference)} records are unaccounted for`);
  if (s.plan.refused) list.push(`a plan was not taken: ${s.plan.refused.why}`);
  for (const p of s.pauses ?? []) list.push(`${p.rule ? `rule ${p.rule}` : `outlet ${p.outlet}`} is paused until ${day(new Date(p.until))} ${clock(new Date(p.until))}${p.drop ? ", and sheds what comes" : ""}`);
  for (const o of s.outlets) {
    if (o.trouble) list.push(`${o.name}: ${o.trouble}${waits(o)}`);
    if (o.refused > 0) list.push(`${o.name}: the other side has refused ${count(o.refused)} records for good`);
    if (o.shed > 0) list.push(`${o.name} has shed ${count(o.shed)} records`);
  }
  for (const i of s.intakes) {
    if (i.missed > 0) list.push(`${i.name}: ${count(i.missed)} records were dropped before they could be read`);
    if (i.trouble) list.push(`${i.name}: ${i.trouble}`);
    if (i.turned_away > 0) list.push(`${i.name} has turned away ${count(i.turned_away)} connections or datagrams`);
  }
  for (const d of s.forecast?.disks ?? []) {
    if (d.full && new Date(d.full).getTime() - Date.now() < 14 * 86400e3) list.push(`the disk of ${d.folder} is full on ${day(new Date(d.full))}, as its files grow now`);
    if (d.free <= d.floor) list.push(`nothing is written on the disk of ${d.folder}: no more is free than is to stay free`);
  }
  for (const f of s.faults ?? []) {
    const times = f.count === 1 ? "once" : `${count(f.count)} times, first ${ago(f.first)}`;
    const lost = f.lost > 0 ? `; ${count(f.lost)} records were lost` : "";
    const now = f.next ? `it is begun again at ${clock(new Date(f.next))}` : "it runs again";
    list.push(`${f.part} has failed ${times}, last ${ago(f.last)}: ${f.what} at ${f.where}${lost}; ${now}`);
  }
  for (const f of s.forks ?? []) list.push(`${f.outlet ? `outlet ${f.outlet}, ` : ""}${ago(f.at)}: ${f.what}${f.mend ? `; ${f.mend}` : ""}`);
  for (const d of s.damaged ?? []) list.push(`${d.file} was found damaged ${ago(d.at)}, of ${d.part}; it cost ${d.cost}`);
  for (const t of h.tally_trouble ?? []) list.push(`the tally of ${t.path}: ${t.what}, seen ${ago(t.at)}`);
  for (const d of s.details ?? []) list.push(`detail window: rule ${d.rule} takes ${d.to} until ${clock(new Date(d.until))}`);
  return list;
}

export function Health({ host }: { host: Host }) {
  const well = troublesOf(host).length === 0;
  return <span aria-hidden className="mr-2" style={{ color: well ? "var(--sev5)" : "var(--sev3)" }}>{well ? "●" : "▲"}</span>;
}

const mostShown = 200;

// Hosts lists every agent that was heard, those that need a person first.
export default function Hosts() {
  const hosts = useHosts();
  const fleet = useFleet();
  const [search, setSearch] = useState("");
  const of = new Map((fleet.data ?? []).map((f) => [f.agent_id, f]));
  const found = (hosts.data ?? []).filter((h) => matches(h, of.get(h.agent_id), search));
  const need = (h: Host) => (toldOf(h).length > 0 ? 2 : 0) + (of.get(h.agent_id)?.drift ? 1 : 0);
  found.sort((a, b) => need(b) - need(a) || a.name.localeCompare(b.name));
  return (
    <div className="h-full overflow-auto p-3 sm:p-5">
      {hosts.error && <Alert className="mb-4">{hosts.error.message}</Alert>}
      <Card title="Hosts">
        {hosts.data?.length === 0 && <NoHosts />}
        {hosts.data && hosts.data.length > 1 && (
          <p className="mb-3 flex flex-wrap items-center gap-3">
            <input type="search" aria-label="search hosts" placeholder="name, label=value, plan or trouble" className={`${control} w-72`} value={search} onChange={(e) => setSearch(e.target.value)} />
            <span className="text-sm text-soft" role="status">{found.length === hosts.data.length ? `${count(found.length)} hosts` : `${count(found.length)} of ${count(hosts.data.length)} hosts`}, {count(found.filter(need).length)} need a look</span>
          </p>
        )}
        <ul>
          {found.slice(0, mostShown).map((h) => <Boundary key={h.agent_id} what={`What ${h.name} says`}><HostRow host={h} fleet={of.get(h.agent_id)} /></Boundary>)}
        </ul>
        {found.length > mostShown && <p className="border-t border-line pt-2 text-soft">and {count(found.length - mostShown)} more; search for those that you mean</p>}
      </Card>
      <Invite />
    </div>
  );
}

// toldOf is troublesOf for a host that may say anything: what cannot be read is a trouble.
function toldOf(h: Host): string[] {
  try {
    return troublesOf(h);
  } catch {
    return ["cannot be shown"];
  }
}

// labelsOf tells the labels of a host, and its plan, as one text each.
const labelsOf = (f?: FleetHost) => Object.entries(f?.labels ?? {}).map(([name, value]) => `${name}=${value}`);
const planText = (f?: FleetHost) => (f?.served ? (f.plan ? `${f.plan} ${f.revision}` : "no plan yet") : "");

// matches tells whether a host has all words that are looked for.
function matches(h: Host, f: FleetHost | undefined, search: string): boolean {
  const text = [h.name, ...labelsOf(f), planText(f), f?.drift ?? "", h.status?.version?.version ?? "", ...toldOf(h)].join(" ").toLowerCase();
  return search.toLowerCase().split(/\s+/).every((word) => text.includes(word));
}

function HostRow({ host: h, fleet: f }: { host: Host; fleet?: FleetHost }) {
  return (
    <li className="grid grid-cols-2 gap-x-4 border-t border-line py-2 sm:grid-cols-[10rem_8rem_8rem_6rem_11rem_1fr]">
      <div><Health host={h} /><Link className="font-semibold hover:underline" to={`/hosts/${h.agent_id}`}>{h.name}</Link></div>
      <div className="text-soft">heard {ago(h.last_heard)}</div>
      <div>{count(h.status.rules.in)} in</div>
      <div>{count(h.held)} waiting</div>
      <div className="text-sm">{planText(f)}<span className="block text-xs text-soft">{labelsOf(f).join(" ")}</span></div>
      <div className="col-span-2 text-sm text-soft sm:col-span-1 [overflow-wrap:anywhere]">{f?.drift && <span className="block text-ink">plan: {f.drift}</span>}{troublesOf(h).join("; ") || (f?.drift ? "" : "in order")}</div>
    </li>
  );
}

// PlanOfHost tells which plan of the service a host has, and is to have, and changes its labels and values.
function PlanOfHost({ id }: { id: string }) {
  const f = useFleet().data?.find((h) => h.agent_id === id);
  const mayOperate = useMayOperate();
  const client = useQueryClient();
  const [word, setWord] = useState("");
  const set = useMutation({
    mutationFn: ({ kind, name, value }: { kind: "labels" | "values"; name: string; value: string }) => setLabels(id, { [kind]: { [name]: value } }),
    onSuccess: () => { setWord(""); client.invalidateQueries({ queryKey: keys.fleet }); },
  });
  if (!f) return null;
  const [name, ...rest] = word.split("=");
  const change = (kind: "labels" | "values") => set.mutate({ kind, name: (name ?? "").trim(), value: rest.join("=").trim() });
  const list = (kind: "labels" | "values") => Object.entries(f[kind]).map(([name, value]) => (
    <span key={name} className="mr-2 inline-block rounded border border-line bg-paper px-2 text-sm">{name}={value}{mayOperate && !name.startsWith("own/") && <button className="ml-1 text-soft hover:text-ink" aria-label={`take ${name} away`} onClick={() => set.mutate({ kind, name, value: "" })}>×</button>}</span>
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
  const h = host.data;
  if (!h) return <p className="p-5 text-soft">{host.isPending ? "" : `${host.error?.message}. The page Hosts lists those that have been.`}</p>;
  const s = h.status;
  const cell = "border-t border-line py-1 pr-4 align-top";
  return (
    <div className="h-full overflow-auto p-3 sm:p-5">
      <header className="mb-4 flex flex-wrap items-baseline gap-x-6 gap-y-1">
        <h2 className="text-xl font-semibold"><Health host={h} />{h.name}</h2>
        <span className="text-soft">heard {ago(h.last_heard)}, runs since {day(new Date(s.since))} {clock(new Date(s.since))}{s.version?.version ? <span title={[s.version.commit, s.version.go, s.version.built].filter(Boolean).join(", ")}>, version {s.version.version}</span> : ""}</span>
        <Link className="hover:underline" to={`/logs?range=1h&q=${encodeURIComponent(`agent is "${h.name}"`)}`}>its records</Link>
        <Link className="hover:underline" to={`/plans?host=${h.agent_id}`}>its plan <span className="font-mono text-sm">{h.plan_hash.slice(0, 8)}</span></Link>
      </header>
      {troublesOf(h).map((t) => <p key={t} className="mb-2 rounded bg-wash px-3 py-2 [overflow-wrap:anywhere]">{t}</p>)}
      <PlanOfHost id={h.agent_id} />
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
  if (o.held > 0) parts.push(`${count(o.held)} waiting`);
  if (o.shed > 0) parts.push(`${count(o.shed)} shed`);
  if (o.refused > 0) parts.push(`${count(o.refused)} refused`);
  return <div className={className}><b className="font-semibold">{o.name}</b> {count(o.in + o.held_at_start)}<div className="text-sm text-soft">{parts.join(", ")}</div></div>;
}
