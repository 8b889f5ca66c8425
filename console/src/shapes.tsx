import { useMemo, useRef } from "react";
import { Link } from "react-router";
import { useAddress } from "./address";
import type { Shape, Shapes } from "./api";
import { narrowed, QueryLine } from "./query";
import { useCasks, useShapes } from "./queries";
import { Severity } from "./severity";
import { ago, count, rangeOf, ranges } from "./time";
import { Alert, control, Missing, onWide, Table } from "./ui";

const parts = 48; // of a course
const least = 50; // shapes that are shown at first
const most = 10000; // that the service tells
const marks: Record<string, string> = { new: "✦", risen: "▲", fallen: "▽", ceased: "✕" };

// Which shapes are shown: all, or those about which something is remarkable.
const choices: [string, string][] = [["", "all"], ["new,risen,fallen,ceased", "remarkable"], ["new", "new"], ["risen", "risen"], ["fallen", "fallen"], ["ceased", "ceased"]];

// longer is a range that holds the span before, too: there are the records of what has ceased.
const longer = (range: string) => Object.keys(ranges)[Object.keys(ranges).indexOf(range) + 1] ?? range;

// is is the condition that records of a shape meet.
const is = (shape: string) => `shape is ${JSON.stringify(shape)}`;

// The address bar holds the view: q is the condition, range the span, cask the cask, only what must be remarkable, limit how many.
export default function ShapesPage() {
  const { params, change } = useAddress();
  const get = (name: string) => params.get(name) ?? "";
  const condition = get("q"), cask = get("cask"), only = get("only"), range = rangeOf(get("range"), "24h");
  const limit = Number(get("limit")) || least;
  const input = useRef<HTMLInputElement>(null);
  const query = useMemo(() => {
    const until = Math.ceil(Date.now() / 1000) * 1000;
    const p = new URLSearchParams({ since: new Date(until - ranges[range]).toISOString(), until: new Date(until).toISOString(), parts: `${parts}`, limit: `${limit}` });
    if (condition) p.set("where", condition);
    if (cask) p.set("cask", cask);
    if (only) p.set("only", only);
    return p;
  }, [range, condition, cask, only, limit]);
  const casks = useCasks();
  const found = useShapes(query);
  const shapes = found.data;
  return (
    <div className="flex h-full flex-col">
      <div className="border-b border-line bg-sheet px-3 py-3 sm:px-5">
        <h1 className="sr-only">Shapes</h1>
        <div className="flex flex-wrap gap-2">
          <QueryLine value={condition} inputRef={input} onRun={(q) => change({ q })} />
          <select aria-label="cask" className={control} value={cask} onChange={(e) => change({ cask: e.target.value })}>
            <option value="">every cask</option>
            {casks.data?.map((c) => <option key={c.name}>{c.name}</option>)}
          </select>
          <select aria-label="span" className={control} value={range} onChange={(e) => change({ range: e.target.value })}>
            {Object.keys(ranges).map((r) => <option key={r} value={r}>last {r}</option>)}
          </select>
          <select aria-label="which" className={control} value={only} onChange={(e) => change({ only: e.target.value, limit: "" })}>
            {choices.map(([value, name]) => <option key={value} value={value}>{name}</option>)}
          </select>
        </div>
        <p className="mt-2 text-sm text-soft">
          What kinds of messages there are: texts with their numbers and names left out.
          {shapes && ` ${count(shapes.total)} records in the last ${range}, ${count(shapes.before)} in the ${range} before.`}
        </p>
      </div>
      {found.error && <Alert className="m-3">{found.error.message}</Alert>}
      <Missing className="m-3" shelves={shapes?.missing} />
      <div className="min-h-0 flex-1 overflow-y-auto px-3 py-2 sm:px-5">
        {shapes && shapes.shapes.length > 0 && <ShapeTable shapes={shapes.shapes} range={range} cask={cask} condition={condition} onNarrow={(to) => change({ q: narrowed(condition, to) })} />}
        {shapes?.shapes.length === 0 && <p className="py-3 text-soft">{only ? nothingRemarkable(shapes) : "No record in this span meets the condition."}</p>}
        {!shapes && !found.error && <p className="py-3 text-soft">counting…</p>}
        {!!shapes?.more.records && (
          <p className="py-2 text-sm text-soft">
            {count(shapes.more.records)} records of {shapes.more.shapes ? `${count(shapes.more.shapes)} more` : "too many"} shapes.{" "}
            {shapes.more.shapes > 0 && <button className="underline hover:text-ink" onClick={() => change({ limit: `${Math.min(limit * 4, most)}` })}>Show more</button>}
          </p>
        )}
      </div>
    </div>
  );
}

// nothingRemarkable says why no shape is shown of those about which something is.
export const nothingRemarkable = (s: Shapes) =>
  s.before ? "No kind of message is new, none comes far more or less often than before." : "There are no records of the span before to compare with: what is new is told once there are.";

// ShapeTable tells of shapes; each leads to its records.
export function ShapeTable({ shapes, range, cask, condition, onNarrow }: { shapes: Shape[]; range: string; cask: string; condition: string; onNarrow?: (to: string) => void }) {
  return (
    <Table columns={["records", "before", "course", "hosts", "first seen", "worst", "shape"]} wide={["course", "hosts", "first seen", "worst"]} label="shapes">
      {shapes.map((s) => (
        <tr key={s.shape} className="border-t border-line align-baseline">
          <td className="py-1 pr-4 text-right tabular-nums">{count(s.records)}</td>
          <td className="py-1 pr-4 whitespace-nowrap tabular-nums">
            <span className="inline-block text-right sm:w-16 text-soft">{count(s.before)}</span>{" "}
            {s.what && <span className="font-semibold text-amber"><span aria-hidden>{marks[s.what]}</span> {s.what}</span>}
          </td>
          <td className={`py-1 pr-4 ${onWide}`}><Course counts={s.course} /></td>
          <td className={`max-w-32 truncate py-1 pr-4 ${onWide}`} title={s.hosts.map((h) => `${h.key} ${count(h.count)}`).join(", ")}>{s.host_count === 1 ? s.hosts[0].key : s.host_count || ""}</td>
          <td className={`py-1 pr-4 whitespace-nowrap text-soft ${onWide}`} title={s.since ?? ""}>{ago(s.since)}</td>
          <td className={`py-1 pr-4 ${onWide}`}>{s.severity && <Severity name={s.severity} />}</td>
          <td className="py-1 sm:min-w-72">
            <Link className="font-mono [overflow-wrap:anywhere] hover:underline" to={`/logs?${new URLSearchParams({ range: s.records ? range : longer(range), q: narrowed(condition, is(s.shape)), ...(cask && { cask }) })}`}>{s.shape || "(empty)"}</Link>
            <span className="ml-2 text-soft">{s.apps.map((a) => a.key).join(", ")}</span>
            {onNarrow && <button className="ml-2 text-sm text-soft underline hover:text-ink" title="leave such records out" onClick={() => onNarrow(`not ${is(s.shape)}`)}>leave out</button>}
          </td>
        </tr>
      ))}
    </Table>
  );
}

const height = 18;

// Course draws counts as bars.
function Course({ counts }: { counts: number[] }) {
  const most = Math.max(1, ...counts);
  return (
    <svg width={counts.length * 2.5} height={height} role="img" aria-label={`at most ${count(most)} in a part of the span`} className="block fill-amber">
      {counts.map((n, i) => n > 0 && <rect key={i} x={i * 2.5} width={2} y={height - Math.max(1, (n / most) * height)} height={Math.max(1, (n / most) * height)} />)}
    </svg>
  );
}
