import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { get, listOf, type Host } from "./api";
import { Histogram } from "./histogram";
import { Health, NoHosts, troublesOf } from "./hosts";
import { severities, Severity } from "./severity";
import { size } from "./size";
import { ago, count, day } from "./time";
import { keys, useHosts } from "./queries";
import { Alert, Boundary, Card } from "./ui";

const span = 60 * 60 * 1000;

// Today: is everything heard, kept and delivered?
export default function Today() {
  const hosts = useHosts();
  const rates = useQuery({
    queryKey: keys.hour,
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
      {problem && <Alert className="mb-4">{problem.message}</Alert>}
      <Card title="Records in the store, the last hour">
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
      </Card>
      <Card title="Hosts" className="mt-4">
        {hosts.data?.length === 0 && <NoHosts />}
        <ul>{hosts.data?.map((h) => <Boundary key={h.agent_id} what={`What ${h.name} says`}><HostRow host={h} /></Boundary>)}</ul>
      </Card>
      <Disks hosts={hosts.data ?? []} />
    </div>
  );
}

function HostRow({ host: h }: { host: Host }) {
  const s = h.status;
  const troubles = troublesOf(h);
  const last = s.intakes.map((i) => i.last_record).filter(Boolean).sort().at(-1);
  const cell = "w-32 sm:w-40";
  return (
    <li className="flex flex-wrap gap-x-4 gap-y-2 border-t border-line py-2">
      <div className={cell}>
        <Health host={h} />
        <Link className="font-semibold hover:underline" to={`/hosts/${h.agent_id}`}>{h.name}</Link>
        <div className="text-sm text-soft">heard {ago(h.last_heard)}</div>
      </div>
      <div className={cell}>{count(s.rules.in)} in<div className="text-sm text-soft">last record {ago(last)}</div></div>
      <div className={cell}>{count(s.rules.routed)} routed<div className="text-sm text-soft">{count(s.rules.dropped)} dropped by rules</div></div>
      <div className={cell}>{count(h.held)} waiting<div className="text-sm text-soft">plan <span className="font-mono">{h.plan_hash.slice(0, 8)}</span></div></div>
      <div className="min-w-48 flex-1 [overflow-wrap:anywhere]">
        {troubles.length === 0 ? <span className="text-soft">in order</span> : troubles.map((t) => <div key={t}>{t}</div>)}
      </div>
    </li>
  );
}

// Disks tells of each disk that files are written to how much of it is free, and when it is full.
function Disks({ hosts }: { hosts: Host[] }) {
  const disks = hosts.flatMap((h) => listOf(h.status?.forecast?.disks).map((d) => ({ h, d })));
  if (disks.length === 0) return null;
  return (
    <Card title="Disks" className="mt-4">
      <ul>
        {disks.map(({ h, d }) => (
          <li key={h.agent_id + d.folder} className="flex flex-wrap gap-x-4 gap-y-1 border-t border-line py-2">
            <Link className="w-32 font-semibold hover:underline sm:w-40" to={`/hosts/${h.agent_id}`}>{h.name}</Link>
            <span className="w-48">{size(d.free)} of {size(d.size)} free</span>
            <span className="w-48">{size(d.bytes_per_day)} a day</span>
            <span className="min-w-48 flex-1">{d.full ? <b className="font-semibold">full on {day(new Date(d.full))}</b> : <span className="text-soft">not full within ten years</span>}{!d.fits && ", and what keep allows does not fit"}</span>
          </li>
        ))}
      </ul>
    </Card>
  );
}
