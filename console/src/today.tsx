import { useQuery } from "@tanstack/react-query";
import { useMemo, type ReactNode } from "react";
import { Link } from "react-router";
import { get, type FleetHost, type Overview } from "./api";
import { Histogram } from "./histogram";
import { Health, NoHosts } from "./hosts";
import { severities, Severity } from "./severity";
import { size } from "./size";
import { ago, count, day } from "./time";
import { NoticeList } from "./noticelist";
import { keys, useIsAdmin, useJoinings, useMayOperate, useNotices, useOverview, useReceivers, useShapes } from "./queries";
import { nothingRemarkable, ShapeTable } from "./shapes";
import { Alert, Card, Missing } from "./ui";

const span = 60 * 60 * 1000;
const mostShown = 50;

// Today: is everything heard, kept and delivered?
export default function Today() {
  const hosts = useOverview("", mostShown);
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
      <h1 className="sr-only">Today</h1>
      {problem && <Alert className="mb-4">{problem.message}</Alert>}
      <Needs hosts={hosts.data} />
      <Remarkable />
      <Card title="Records in the store, the last hour" className="mt-4">
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
        {hosts.data?.all === 0 && <NoHosts />}
        <ul>{hosts.data?.hosts.map((h) => <HostRow key={h.agent_id} host={h} />)}</ul>
        {hosts.data && hosts.data.all > mostShown && <p className="border-t border-line pt-2 text-soft"><Link className="underline" to="/hosts">and {count(hosts.data.all - mostShown)} more</Link></p>}
      </Card>
      <Disks hosts={hosts.data?.hosts ?? []} />
    </div>
  );
}

function HostRow({ host: h }: { host: FleetHost }) {
  const s = h.summary;
  const cell = "w-32 sm:w-40";
  return (
    <li className="flex flex-wrap gap-x-4 gap-y-2 border-t border-line py-2">
      <div className={cell}>
        <Health host={h} />
        <Link className="font-semibold hover:underline" to={`/hosts/${h.agent_id}`}>{h.host}</Link>
        <div className="text-sm text-soft">heard {ago(h.last_heard)}</div>
      </div>
      <div className={cell}>{count(s.in)} in<div className="text-sm text-soft">last record {ago(s.last_record)}</div></div>
      <div className={cell}>{count(s.routed)} routed<div className="text-sm text-soft">{count(s.dropped)} dropped by rules</div></div>
      <div className={cell}>{count(h.held)} waiting{h.plan && <div className="text-sm text-soft">plan {h.plan} {h.revision}</div>}</div>
      <div className="min-w-48 flex-1 [overflow-wrap:anywhere]">
        {h.drift && <div>plan: {h.drift}</div>}
        {s.troubles.map((t) => <div key={t}>{t}</div>)}
        {s.troubles.length === 0 && !h.drift && <span className="text-soft">in order</span>}
      </div>
    </li>
  );
}

const needsShown = 4; // notices, and hosts
const soon = 14 * 86400e3; // a disk that is full by then needs a person

// Needs tells what needs a person, each with the way on: notices of alerts, hosts, disks, agents that wait.
function Needs({ hosts }: { hosts?: Overview }) {
  const notices = useNotices("told,seen");
  const isAdmin = useIsAdmin();
  const joinings = useJoinings(isAdmin);
  const receivers = useReceivers(useMayOperate());
  const inNeed = hosts?.hosts.filter((h) => h.summary.troubles.length > 0 || h.drift) ?? [];
  const disks = hosts?.hosts.flatMap((h) => h.summary.disks.filter((d) => d.full && Date.parse(d.full) < Date.now() + soon).map((d) => ({ h, d }))) ?? [];
  const deaf = receivers.data?.filter((r) => r.trouble) ?? [];
  const waiting = joinings.data?.length ?? 0;
  if (!notices.data || !hosts) return null;
  const none = notices.data.length + (hosts.need || inNeed.length) + disks.length + deaf.length + waiting === 0;
  return (
    <Card title="What needs a person">
      {none && <p className="text-soft">Nothing. <Link className="underline" to="/alerts">What the store asks for you</Link></p>}
      <NoticeList notices={notices.data.slice(0, needsShown)} />
      {notices.data.length > needsShown && <p className="border-t border-line py-2 text-sm"><Link className="underline" to="/notices">and {count(notices.data.length - needsShown)} more notices</Link></p>}
      <ul>
        {inNeed.slice(0, needsShown).map((h) => <Need key={h.agent_id} to={`/hosts/${h.agent_id}`} who={h.host}>{h.summary.troubles[0] ?? `plan: ${h.drift}`}</Need>)}
        {hosts.need > needsShown && <Need to="/hosts" who="hosts">and {count(hosts.need - needsShown)} more hosts</Need>}
        {disks.slice(0, needsShown).map(({ h, d }) => <Need key={h.agent_id + d.folder} to={`/hosts/${h.agent_id}`} who={h.host}>the disk of {d.folder} is full on {day(new Date(d.full!))} at this rate</Need>)}
        {deaf.map((r) => <Need key={r.name} to="/alerts" who={r.name}>does not take what alerts tell: {r.trouble}</Need>)}
        {waiting > 0 && <Need to="/access" who="agents">{count(waiting)} wait to be let in</Need>}
      </ul>
    </Card>
  );
}

function Need({ to, who, children }: { to: string; who: string; children: ReactNode }) {
  return (
    <li className="flex flex-wrap gap-x-4 border-t border-line py-1.5">
      <Link className="w-28 truncate font-semibold hover:underline" to={to} title={who}>{who}</Link>
      <span className="min-w-0 flex-1 basis-64 [overflow-wrap:anywhere]">{children}</span>
    </li>
  );
}

const remarkable = 8; // shapes that are shown

// Remarkable tells which kinds of messages of a day are new, or come far more or less often than the day before.
function Remarkable() {
  const until = Math.ceil(Date.now() / 300e3) * 300e3; // asked again every five minutes
  const query = useMemo(() => new URLSearchParams({ since: new Date(until - 86400e3).toISOString(), until: new Date(until).toISOString(), only: "new,risen,fallen,ceased", limit: `${remarkable}` }), [until]);
  const found = useShapes(query);
  if (!found.data && !found.error) return null;
  return (
    <Card title="What is new, beside the day before" className="mt-4">
      {found.error && <Alert>{found.error.message}</Alert>}
      <Missing shelves={found.data?.missing} />
      {found.data?.shapes.length === 0 && <p className="text-soft">{nothingRemarkable(found.data)}</p>}
      {!!found.data?.shapes.length && <ShapeTable shapes={found.data.shapes} range="24h" cask="" condition="" />}
      <p className="mt-2 text-sm"><Link className="underline" to={found.data?.more.shapes ? "/shapes?only=new,risen,fallen,ceased" : "/shapes"}>{found.data?.more.shapes ? `and ${count(found.data.more.shapes)} more` : "All shapes"}</Link></p>
    </Card>
  );
}

// Disks tells of each disk that files are written to how much of it is free, and when it is full.
function Disks({ hosts }: { hosts: FleetHost[] }) {
  const disks = hosts.flatMap((h) => h.summary.disks.map((d) => ({ h, d })));
  if (disks.length === 0) return null;
  return (
    <Card title="Disks" className="mt-4">
      <ul>
        {disks.map(({ h, d }) => (
          <li key={h.agent_id + d.folder} className="flex flex-wrap gap-x-4 gap-y-1 border-t border-line py-2">
            <Link className="w-32 font-semibold hover:underline sm:w-40" to={`/hosts/${h.agent_id}`}>{h.host}</Link>
            <span className="w-48">{size(d.free)} of {size(d.size)} free</span>
            <span className="w-48">{size(d.bytes_per_day)} a day</span>
            <span className="min-w-48 flex-1">{d.full ? <b className="font-semibold">full on {day(new Date(d.full))}</b> : <span className="text-soft">not full within ten years</span>}{!d.fits && ", and what keep allows does not fit"}</span>
          </li>
        ))}
      </ul>
    </Card>
  );
}
