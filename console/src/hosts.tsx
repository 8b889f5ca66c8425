import { Link, useParams } from "react-router";
import { type Host, type Outlet } from "./api";
import { DetailWindows } from "./detail";
import { Containers } from "./containers";
import { Files } from "./files";
import { Followed } from "./followed";
import { Invite } from "./invite";
import { size } from "./size";
import { TestRecord } from "./testrecord";
import { ago, clock, count, day } from "./time";
import { useHosts, useHost } from "./queries";
import { Alert, Boundary, Card, Table } from "./ui";

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
  if (Date.now() - new Date(h.last_heard).getTime() > 20000) list.push(`not heard for a while, last ${ago(h.last_heard)}`);
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

// Hosts lists every agent that was heard.
export default function Hosts() {
  const hosts = useHosts();
  return (
    <div className="h-full overflow-auto p-3 sm:p-5">
      {hosts.error && <Alert className="mb-4">{hosts.error.message}</Alert>}
      <Card title="Hosts">
        {hosts.data?.length === 0 && <NoHosts />}
        <ul>
          {hosts.data?.map((h) => <Boundary key={h.agent_id} what={`What ${h.name} says`}><HostRow host={h} /></Boundary>)}
        </ul>
      </Card>
      <Invite />
    </div>
  );
}

function HostRow({ host: h }: { host: Host }) {
  return (
    <li className="grid grid-cols-2 gap-x-4 border-t border-line py-2 sm:grid-cols-[10rem_9rem_9rem_9rem_1fr]">
      <div><Health host={h} /><Link className="font-semibold hover:underline" to={`/hosts/${h.agent_id}`}>{h.name}</Link></div>
      <div className="text-soft">heard {ago(h.last_heard)}</div>
      <div>{count(h.status.rules.in)} in</div>
      <div>{count(h.held)} waiting</div>
      <div className="col-span-2 text-sm text-soft sm:col-span-1 [overflow-wrap:anywhere]">{troublesOf(h).join("; ") || "in order"}</div>
    </li>
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
