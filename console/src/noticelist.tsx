import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { steerNotice, type Notice } from "./api";
import { keys, useMayOperate } from "./queries";
import { ago, clock, count, day } from "./time";
import { Alert, Button, control } from "./ui";

const about = 5; // of those that a notice is about, which are shown in a list
const margin = 60e3; // before and behind the records that a notice leads to

// recordsOf leads to the records of one whom a notice is about.
function recordsOf(n: Notice, where: string, since: string, until: string) {
  const p = new URLSearchParams({ since: `${Date.parse(since) - margin}`, until: `${Math.max(Date.parse(until), Date.parse(since)) + margin}` });
  if (where) p.set("q", where);
  if (n.cask) p.set("cask", n.cask);
  return `/logs?${p}`;
}

const exact = (iso: string) => `${day(new Date(iso))} ${clock(new Date(iso))}`;

// NoticeList shows notices, and what somebody may do about them.
export function NoticeList({ notices, whole }: { notices: Notice[]; whole?: boolean }) {
  return <ul>{notices.map((n) => <OneNotice key={n.id} notice={n} whole={whole} />)}</ul>;
}

function OneNotice({ notice: n, whole }: { notice: Notice; whole?: boolean }) {
  const shown = whole ? n.about : n.about.slice(0, about);
  return (
    <li className="border-t border-line py-2" aria-label={`notice ${n.id}`}>
      <div className="flex flex-wrap items-baseline gap-x-4 gap-y-1">
        <State notice={n} />
        <Link className="min-w-0 flex-1 basis-64 font-semibold [overflow-wrap:anywhere] hover:underline" to={`/notices/${n.id}`}>{n.title}</Link>
        <span className="text-sm text-soft" title={exact(n.since)}>since {ago(n.since)}{n.holds ? "" : n.state === "done" ? "" : `, over since ${ago(n.until)}`}</span>
      </div>
      <ul className="mt-1 text-sm">
        {(shown.length > 1 || whole) && shown.map((w) => (
          <li key={w.who} className="flex flex-wrap gap-x-3">
            <Link className="min-w-0 [overflow-wrap:anywhere] underline" to={recordsOf(n, w.where, w.since, w.until)}>{w.line}</Link>
            <span className="text-soft">{w.holds ? "now" : `until ${ago(w.until)}`}{w.times > 1 && `, ${w.times} times`}</span>
          </li>
        ))}
        {n.of > shown.length && <li><Link className="text-soft underline" to={`/notices/${n.id}`}>and {count(n.of - shown.length)} more</Link></li>}
      </ul>
      {n.note && <p className="mt-1 text-sm whitespace-pre-line [overflow-wrap:anywhere]">{n.note}</p>}
      {n.state === "done" && <p className="mt-1 text-sm text-soft [overflow-wrap:anywhere]">{n.by}: {n.why}</p>}
      <Actions notice={n} first={shown[0] && recordsOf(n, shown[0].where, shown[0].since, shown[0].until)} />
    </li>
  );
}

// State says in a word, beside a shape and a colour, how a notice is.
function State({ notice: n }: { notice: Notice }) {
  if (n.state === "done") return <span className="w-28 text-soft">✓ done</span>;
  if (n.state === "seen") return <span className="w-28 truncate" title={`${n.by} is on it`}>◐ {n.by}</span>;
  return <span className="w-28 font-semibold text-amber">{n.holds ? "▲ now" : "△ was so"}</span>;
}

const mutes: [number, string][] = [[60, "an hour"], [8 * 60, "8 hours"], [24 * 60, "a day"], [7 * 24 * 60, "a week"]];

function Actions({ notice: n, first }: { notice: Notice; first?: string }) {
  const may = useMayOperate();
  const client = useQueryClient();
  const [why, setWhy] = useState<string | null>(null);
  const act = useMutation({
    mutationFn: (s: Parameters<typeof steerNotice>[1]) => steerNotice(n.id, s),
    onSettled: () => {
      setWhy(null);
      client.invalidateQueries({ queryKey: keys.notices });
    },
  });
  const plain = (name: string, s: Parameters<typeof steerNotice>[1]) => <Button look="link" aria-label={`${name}, notice ${n.id}`} disabled={act.isPending} onClick={() => act.mutate(s)}>{name}</Button>;
  return (
    <div className="mt-1 flex flex-wrap items-baseline gap-x-4 gap-y-1 text-sm">
      {first && <Link className="text-soft underline hover:text-ink" to={first}>its records</Link>}
      {may && n.state === "told" && plain("I am on it", { do: "take" })}
      {may && n.state === "seen" && plain("nobody is on it", { do: "leave" })}
      {may && n.state === "done" && plain("open it again", { do: "reopen" })}
      {may && n.state !== "done" && (n.muted
        ? <span className="text-soft">muted until {exact(n.muted)} {plain("tell again", { do: "mute", minutes: 0 })}</span>
        : (
          <select aria-label={`mute notice ${n.id} for`} className={control} value="" onChange={(e) => act.mutate({ do: "mute", minutes: Number(e.target.value) })}>
            <option value="">mute for…</option>
            {mutes.map(([minutes, name]) => <option key={minutes} value={minutes}>{name}</option>)}
          </select>
        ))}
      {may && n.state !== "done" && why === null && <Button look="link" aria-label={`done, notice ${n.id}`} onClick={() => setWhy("")}>done…</Button>}
      {why !== null && (
        <form className="flex flex-wrap gap-2" onSubmit={(e) => { e.preventDefault(); act.mutate({ do: "done", why }); }}>
          {/* eslint-disable-next-line jsx-a11y/no-autofocus -- it appears where somebody has asked for it */}
          <input autoFocus required maxLength={1000} aria-label="why it is done" placeholder="what it was, in a line" className={`${control} w-64`} value={why} onChange={(e) => setWhy(e.target.value)} />
          <Button look="plain" disabled={act.isPending}>Close it</Button>
        </form>
      )}
      {act.error && <Alert>{act.error.message}</Alert>}
    </div>
  );
}
