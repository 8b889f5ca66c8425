import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useParams } from "react-router";
import { setCask, type Cask, type CaskAndFeeds, type Retention } from "./api";
import { size } from "./size";
import { ago, clock, count, day } from "./time";
import { keys, useIsAdmin, useMayOperate, useCasks, useCask, useShelves } from "./queries";
import { Alert, Button, Card, card, Field, Missing, Table } from "./ui";

// keeps tells for how long a cask keeps its records.
function keeps(r: Retention): string {
  let text = "everything";
  if (r.held) text = "everything, as it is on hold";
  else if (r.keep_days > 0 && r.keep_total > 0) text = `${r.keep_days} days, and ${size(r.keep_total)} at most`;
  else if (r.keep_days > 0) text = `${r.keep_days} days`;
  else if (r.keep_total > 0) text = `${size(r.keep_total)} at most`;
  return r.days_at_most > 0 ? `${text}, in no case longer than ${r.days_at_most} days` : text;
}

const span = (c: Cask) => (c.first && c.last ? `${day(new Date(c.first))} to ${day(new Date(c.last))}` : "nothing yet");

// Casks lists the collections of the store.
export default function Casks() {
  const casks = useCasks();
  if (casks.error) return <Alert className="m-6">{casks.error.message}</Alert>;
  if (!casks.data) return null;
  return (
    <div className="h-full overflow-auto p-3 sm:p-5">
      <h1 className="mb-3 text-xl font-semibold">Casks</h1>
      <Missing className="mb-3" shelves={casks.data[0]?.missing} />
      {casks.data.length === 0 && <p className={card}>There is none yet. Make one with the token that writes to it: <code className="font-mono text-sm">oakbarrel token new --cask gateway --may write</code></p>}
      <div className="grid gap-3 lg:grid-cols-2">
        {casks.data.map((c) => (
          <Link key={c.name} to={`/casks/${c.name}`} className={`${card} block hover:border-amber`}>
            <h2 className="mb-2 text-lg font-semibold">{c.name}</h2>
            <Facts cask={c} />
          </Link>
        ))}
      </div>
      <Shelves />
    </div>
  );
}

// Shelves shows what the store is spread over, where that is more than one database.
function Shelves() {
  const shelves = useShelves(useMayOperate());
  if (!shelves.data || shelves.data.length < 2) return null;
  return (
    <Card title="Shelves" className="mt-3">
      <Table columns={["shelf", "state", "feeds", "holds", "of"]}>
        {shelves.data.map((s) => (
          <tr key={s.name} className="border-t border-line align-baseline">
            <td className="py-1 pr-4 font-semibold">{s.name}</td>
            <td className="pr-4">{s.state === "away" ? <b className="font-semibold">▲ away</b> : s.state}</td>
            <td className="pr-4">{count(s.feeds)}</td>
            <td className="pr-4">{s.state === "away" ? "?" : size(s.bytes)}</td>
            <td className="pr-4">{size(s.size)}</td>
          </tr>
        ))}
      </Table>
    </Card>
  );
}

function Facts({ cask: c }: { cask: Cask }) {
  const facts: [string, string][] = [
    ["holds", `${count(c.records)} records, ${size(c.bytes)}`],
    ["of", span(c)],
    ["grows by", `${size(c.bytes_per_day)} a day`],
    ["keeps", keeps(c)],
    ...(c.shelf ? [["new feeds", `go to shelf ${c.shelf}`] as [string, string]] : []),
    ["will take", c.will_reach === null ? "more and more: nothing bounds it" : `${size(c.will_reach)}, as it grows now`],
  ];
  return (
    <dl className="grid grid-cols-[6rem_1fr] gap-y-1">
      {facts.map(([name, value]) => <div key={name} className="contents"><dt className="text-soft">{name}</dt><dd>{value}</dd></div>)}
    </dl>
  );
}

// CaskPage shows one cask: how long it keeps records, and the feeds that flow into it.
export function CaskPage() {
  const { name = "" } = useParams();
  const cask = useCask(name);
  const isAdmin = useIsAdmin();
  if (cask.error) return <Alert className="m-6">{cask.error.message}</Alert>;
  if (!cask.data) return null;
  const c = cask.data;
  return (
    <div className="h-full space-y-3 overflow-auto p-3 sm:p-5">
      <h1 className="text-xl font-semibold"><Link to="/casks" className="text-soft underline hover:text-ink">Casks</Link> / {c.name}</h1>
      <Missing shelves={c.missing} />
      <div className="grid gap-3 lg:grid-cols-2">
        <Card><Facts cask={c} /><p className="mt-3"><Link className="text-amber underline" to={`/logs?cask=${encodeURIComponent(c.name)}`}>Read its records</Link></p></Card>
        {isAdmin && <Card><Keeping key={c.name} cask={c} /></Card>}
      </div>
      <Card title="Feeds">
        {c.feeds.length === 0 ? <p className="text-soft">No host has sent anything yet. In a plan it is named so: <code className="font-mono text-sm">{`centre: {store: {cask: ${c.name}}}`}</code></p> : <Feeds cask={c} />}
      </Card>
    </div>
  );
}

const gap = (n: number) => (n === 0 ? <span className="text-soft">none</span> : <b className="font-semibold">▲ {count(n)}</b>);

function Feeds({ cask }: { cask: CaskAndFeeds }) {
  return (
    <Table columns={["host", "known as", "outlet", "last number", "records", "shed", "lost", "refused", "last batch", "delay"]}>
          {cask.feeds.map((f) => (
            <tr key={f.agent_id + f.outlet + f.generation} className="border-t border-line align-baseline">
              <td className="py-1 pr-4"><Link className="font-semibold hover:underline" to={`/hosts/${f.agent_id}`}>{f.host || f.agent_id.slice(0, 12)}</Link></td>
              <td className="pr-4">{f.sender}</td>
              <td className="pr-4">{f.outlet}{f.generation && f.generation !== "import" && <span className="text-soft" title="the numbers begin anew, as the folder of the agent was copied or set back, or the outlet sent elsewhere"> anew</span>}</td>
              <td className="pr-4">{count(f.confirmed)}</td>
              <td className="pr-4">{count(f.records)}{f.maybe_twice > 0 && <span className="text-soft" title="a copy of the agent's folder held them too"> {count(f.maybe_twice)} maybe twice</span>}</td>
              <td className="pr-4">{gap(f.shed)}</td>
              <td className="pr-4">{gap(f.lost)}</td>
              <td className="pr-4">{gap(f.refused)}</td>
              <td className="pr-4 whitespace-nowrap" title={f.arrived ? clock(new Date(f.arrived)) : ""}>{ago(f.arrived)}</td>
              <td className="pr-4 whitespace-nowrap">{f.delay_seconds.toFixed(1)} s</td>
            </tr>
          ))}
    </Table>
  );
}

const gib = 2 ** 30;

// Keeping sets for how long a cask keeps its records.
function Keeping({ cask: c }: { cask: Cask }) {
  const client = useQueryClient();
  const [days, setDays] = useState(String(c.keep_days || ""));
  const [total, setTotal] = useState(c.keep_total ? String(+(c.keep_total / gib).toFixed(3)) : "");
  const [most, setMost] = useState(String(c.days_at_most || ""));
  const [held, setHeld] = useState(c.held);
  const set = useMutation({
    mutationFn: () => setCask(c.name, { keep_days: Number(days), keep_total: Math.round(Number(total) * gib), days_at_most: Number(most), held }),
    onSuccess: (now) => {
      client.setQueryData(keys.cask(c.name), now);
      client.invalidateQueries({ queryKey: keys.casks });
    },
  });
  const next = { keep_days: Number(days), keep_total: Math.round(Number(total) * gib), days_at_most: Number(most), held };
  const less = !held && (next.keep_days > 0 || next.keep_total > 0) && (c.held || (next.keep_days > 0 && (c.keep_days === 0 || next.keep_days < c.keep_days)) || (next.keep_total > 0 && (c.keep_total === 0 || next.keep_total < c.keep_total)));
  const number = (name: string, unit: string, value: string, change: (v: string) => void, step: string) => (
    <Field name={name} nameClass="w-32" unit={unit} type="number" min="0" step={step} placeholder="no bound" className="w-28" value={value} onChange={(e) => change(e.target.value)} />
  );
  return (
    <form className="space-y-2" onSubmit={(e) => { e.preventDefault(); set.mutate(); }}>
      <h2 className="text-lg font-semibold">What it keeps</h2>
      {number("for", "days since they came", days, setDays, "1")}
      {number("at most", "GiB", total, setTotal, "any")}
      {number("in no case over", "days, whatever else is said", most, setMost, "1")}
      <label className="flex items-baseline gap-2"><input type="checkbox" checked={held} onChange={(e) => setHeld(e.target.checked)} /> on hold: keep everything until this is taken off</label>
      {less && <p>▲ What is over goes within a minute, the oldest first, for good.</p>}
      <Button disabled={set.isPending}>Set</Button>
      <p aria-live="polite" className="text-sm">{set.error?.message ?? (set.isSuccess ? `It keeps ${keeps(set.data)}.` : "")}</p>
    </form>
  );
}
