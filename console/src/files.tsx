import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { order, type DiskForecast, type Host, type Order, type SetForecast } from "./api";
import { size } from "./size";
import { ago, clock, count, day } from "./time";
import { useMayOperate } from "./queries";
import { Alert, Button, Table } from "./ui";

const some = (n: number, what: string) => `${count(n)} ${what}${n === 1 ? "" : "s"}`;

// span writes a number of days with the unit that says most.
function span(n: number): string {
  if (n < 1 / 12) return some(Math.round(n * 1440), "minute");
  if (n < 2) return some(Math.round(n * 24), "hour");
  return some(n < 20 ? Number(n.toFixed(1)) : Math.round(n), "day");
}

// A set as the page lists it: of an outlet, or tended.
interface FileSet {
  name: string;
  path: string;
  tended: boolean;
  trouble: string;
}

function setsOf(h: Host): FileSet[] {
  return [
    ...h.status.outlets.filter((o) => o.kind === "file").flatMap((o) => (o.paths ?? [o.path]).map((path) => ({ name: o.name, path, tended: false, trouble: o.trouble }))),
    ...(h.status.tended ?? []).map((t) => ({ name: t.tend, path: t.path, tended: true, trouble: t.trouble })),
  ];
}

// Files shows a host's rolled sets: how they grow, what is in them, and whether they are as the tally says.
export function Files({ host: h }: { host: Host }) {
  const sets = setsOf(h);
  const [open, setOpen] = useState("");
  const [more, setMore] = useState(false);
  if (sets.length === 0) return <p className="text-sm text-soft">This host's plan writes no files.</p>;
  const forecast = h.status.forecast;
  const shown = more ? sets : sets.slice(0, 12);
  return (
    <div>
      {forecast?.disks.map((d) => <DiskPicture key={d.folder} disk={d} sets={forecast.sets.filter((s) => s.disk === d.folder)} />)}
      <ul>
        {shown.map((s) => (
          <li key={s.path} className="border-t border-line">
            <button className="grid w-full grid-cols-1 items-baseline gap-x-4 py-1.5 text-left hover:bg-wash sm:grid-cols-[9rem_1fr_auto]" aria-expanded={open === s.path} onClick={() => setOpen(open === s.path ? "" : s.path)}>
              <span className="font-semibold">{s.name}{s.tended && <span className="font-normal text-soft"> · tended</span>}</span>
              <span className="font-mono text-xs [overflow-wrap:anywhere]">{s.path}</span>
              <span className="text-sm text-soft"><Grows host={h} set={s} /></span>
            </button>
            {open === s.path && <SetPanel host={h} set={s} />}
          </li>
        ))}
      </ul>
      {sets.length > shown.length && <Button look="link" className="mt-2" onClick={() => setMore(true)}>{`all ${count(sets.length)} files`}</Button>}
    </div>
  );
}

// Grows tells what a set takes, and what it takes a day.
function Grows({ host: h, set: s }: { host: Host; set: FileSet }) {
  const tended = h.status.tended?.find((t) => t.path === s.path);
  const outlet = h.status.outlets.find((o) => o.name === s.name && !s.tended);
  const f = h.status.forecast?.sets.find((x) => x.name === s.name);
  if (s.trouble) return <span className="text-ink">▲ {s.trouble}</span>;
  if (tended) return <>{size(tended.live_bytes)} live, {some(tended.pieces, "piece")}, {size(tended.piece_bytes)}</>;
  if (!outlet || outlet.files > 1) return <>one of {count(outlet?.files ?? 0)} files</>;
  return (
    <>
      {size(outlet.live_bytes)} live, {some(outlet.pieces, "piece")}, {size(outlet.piece_bytes)}
      {f && f.bytes_per_day > 0 && <>; {size(f.bytes_per_day)} a day{f.oldest && <>, reaches back {span((Date.now() - new Date(f.oldest).getTime()) / 86400e3)}</>}{f.will_reach != null && <>, in time {span(f.will_reach)}</>}</>}
    </>
  );
}

const shades = ["var(--sev6)", "var(--sev5)", "var(--sev4)", "var(--amber)", "var(--sev3)", "var(--soft)"];

// DiskPicture draws what the sets take of a disk, what they may take, and what stays free.
function DiskPicture({ disk: d, sets }: { disk: DiskForecast; sets: SetForecast[] }) {
  const used = sets.reduce((n, s) => n + s.bytes, 0);
  const scale = Math.max(d.ceiling ?? 0, used) * 1.05 || 1;
  const room = d.free - d.floor + used;
  const unbounded = sets.filter((s) => s.ceiling == null).map((s) => s.name);
  const percent = (n: number) => `${Math.min(100, (100 * n) / scale)}%`;
  return (
    <figure className="mb-3">
      <figcaption className="mb-1 text-sm">
        <b className="font-semibold">disk of <span className="font-mono text-xs">{d.folder}</span></b>: {size(d.free)} of {size(d.size)} free; these files grow by {size(d.bytes_per_day)} a day
        {d.full ? <>, and the disk is full on <b className="font-semibold">{day(new Date(d.full))}</b>, in {span((new Date(d.full).getTime() - Date.now()) / 86400e3)}</> : ", and it does not come to be full within ten years"}.
        {!d.fits && <b className="font-semibold"> ▲ What keep allows does not fit.</b>}
      </figcaption>
      <div className="relative h-5 overflow-hidden rounded border border-line bg-paper" role="img" aria-label={`${size(used)} taken, ${d.ceiling == null ? "no bound" : `${size(d.ceiling)} allowed`}`}>
        <div className="flex h-full">
          {sets.map((s, i) => <div key={s.name} title={`${s.name}: ${size(s.bytes)}${s.ceiling == null ? ", no bound" : ` of ${size(s.ceiling)}`}`} style={{ width: percent(s.bytes), minWidth: s.bytes > 0 ? 3 : 0, background: shades[i % shades.length] }} />)}
        </div>
        {d.ceiling != null && <div className="absolute inset-y-0 border-r-2 border-dashed border-ink" style={{ left: 0, width: percent(d.ceiling) }} />}
        {d.ceiling != null && room < d.ceiling && <div className="absolute inset-y-0 right-0 bg-wash" style={{ left: percent(room) }} />}
      </div>
      <div className="mt-1 flex flex-wrap gap-x-4 text-sm text-soft">
        {sets.map((s, i) => <span key={s.name}><span aria-hidden style={{ color: shades[i % shades.length] }}>■</span> {s.name} {size(s.bytes)}</span>)}
        <span className="ml-auto">{d.ceiling != null ? `┆ keep allows ${size(d.ceiling)}` : `nothing bounds ${unbounded.join(", ")}`}</span>
      </div>
    </figure>
  );
}

type Question = "pieces" | "last_lines" | "verify" | "roll";

// SetPanel asks the agent about one set.
function SetPanel({ host: h, set: s }: { host: Host; set: FileSet }) {
  const may = useMayOperate();
  const ask = useMutation({ mutationFn: async (kind: Question) => ({ kind, ...(await order(h.agent_id, kind === "roll" ? { kind, outlet: s.name } : { kind, path: s.path })).outcome }) });
  if (!may) return <p className="pb-2 text-sm text-soft">An operator can look into the pieces, read the last lines, check the tally and roll.</p>;
  const questions: [Question, string][] = [["pieces", "Pieces"], ["last_lines", "Last lines"], ["verify", "Verify"], ["roll", "Roll now"]];
  return (
    <div className="pb-3 text-sm">
      <div className="mb-2 flex gap-2">
        {questions.map(([kind, name]) => (
          <Button key={kind} look="plain" disabled={ask.isPending} onClick={() => ask.mutate(kind)}>{ask.isPending && ask.variables === kind ? "asking the agent…" : name}</Button>
        ))}
      </div>
      <div aria-live="polite">
        {ask.error && <Alert>{ask.error.message}</Alert>}
        {ask.data && <Answer {...ask.data} />}
      </div>
    </div>
  );
}

function Answer({ kind, why, rolled, pieces = [], lines = [], verdict }: Order["outcome"] & { kind: Question }) {
  if (why) return <p>{why}</p>;
  if (kind === "roll") return <ul>{rolled?.map((r) => <li key={r.path} className="[overflow-wrap:anywhere]">{r.rolled ? <>rolled into <span className="font-mono text-xs">{r.piece}</span></> : `not rolled: ${r.why}`}</li>)}</ul>;
  if (kind === "verify" && verdict) {
    if (!verdict.ok) return <p>▲ <b className="font-semibold">{verdict.piece || "the tally"}</b>: {verdict.why}</p>;
    return <p>● {some(verdict.pieces, "piece")} with {some(verdict.records, "record")} are as the tally has them{verdict.removed > 0 && `; ${count(verdict.removed)} were removed, as keep says`}. Hash of its last line: <span className="font-mono text-xs [overflow-wrap:anywhere]">{verdict.hash || "none yet"}</span></p>;
  }
  if (kind === "last_lines") return lines.length === 0 ? <p className="text-soft">Nothing is written yet.</p> : <pre className="overflow-x-auto rounded bg-paper p-2 font-mono text-xs">{lines.join("\n")}</pre>;
  if (pieces.length === 0) return <p className="text-soft">No piece is closed yet: the live file has everything.</p>;
  return (
    <div>
      <Table columns={["piece", "rolled", "records", "span", "size", "ratio", "tally"]}>
          {pieces.map((p) => (
            <tr key={p.name} className="border-t border-line">
              <td className="pr-4 font-mono text-xs">{p.name}</td>
              <td className="pr-4 whitespace-nowrap" title={p.rolled}>{ago(p.rolled)}</td>
              <td className="pr-4">{p.tallied ? count(p.records) : ""}</td>
              <td className="pr-4 whitespace-nowrap">{p.first && p.last ? `${day(new Date(p.first))} ${clock(new Date(p.first))} to ${clock(new Date(p.last))}` : ""}</td>
              <td className="pr-4 whitespace-nowrap">{size(p.size)}</td>
              <td className="pr-4">{p.bytes > 0 && p.size > 0 ? (p.bytes / p.size).toFixed(1) : ""}</td>
              <td>{p.tallied ? "in it" : "not in it"}</td>
            </tr>
          ))}
      </Table>
      {pieces.length === 100 && <p className="text-soft">These are the newest 100.</p>}
    </div>
  );
}
