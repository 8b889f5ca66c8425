import { useQuery } from "@tanstack/react-query";
import { X } from "lucide-react";
import { useState } from "react";
import { Link } from "react-router";
import { hasPlace, neighbours, type Rec, type Value } from "./api";
import { unitOf } from "./counted";
import { Severity } from "./severity";
import { clock, day, offset } from "./time";
import { keys } from "./queries";
import { Alert, Button } from "./ui";

const properties = ["host", "agent", "app", "procid", "msgid", "unit", "facility", "intake", "stream"] as const;

// firstOf is the line of a text that has its shape.
const firstOf = (text: string) => text.split("\n", 1)[0].slice(0, 2000);

// RecordPanel shows one record whole: its properties, its fields as a tree, and as it is kept.
export function RecordPanel({ record: r, cask, onClose, onQuery, onOpen }: { record: Rec; cask: string; onClose: () => void; onQuery: (condition: string) => void; onOpen: (r: Rec) => void }) {
  const time = r.time ? new Date(r.time) : null;
  const has = { ...r, unit: unitOf(r) };
  return (
    <aside aria-label="record" className="flex h-full flex-col overflow-y-auto border-line bg-sheet p-4 sm:border-l">
      <div className="mb-2 flex items-start justify-between gap-3">
        <div>
          <Severity name={r.severity} />
          {time && <div className="text-sm text-soft" title={r.time}>{day(time)} {clock(time, true)} {offset(time)}</div>}
        </div>
        <button aria-label="close the record" className="rounded p-1 text-soft hover:text-ink" onClick={onClose}><X size={18} /></button>
      </div>
      <p className="mb-4 font-mono text-sm whitespace-pre-wrap [overflow-wrap:anywhere]">{r.text ?? <em className="text-soft">no text</em>}</p>
      {r.text && <Button look="link" className="mb-4 self-start" title="texts that differ in numbers and names alone" onClick={() => onQuery(`shape is ${JSON.stringify(firstOf(r.text!))}`)}>only records of this shape</Button>}
      <dl className="mb-4 grid grid-cols-[5.5rem_1fr] gap-x-3 gap-y-1">
        {properties.map((name) => has[name] !== undefined && (
          <div key={name} className="contents">
            <dt className="text-soft">{name}</dt>
            <dd className="[overflow-wrap:anywhere]">
              <button className="text-left hover:underline" title="only such records" onClick={() => onQuery(`${name} is ${JSON.stringify(has[name])}`)}>{has[name]}</button>
            </dd>
          </div>
        ))}
        {r.procid === undefined && typeof r.peer?.pid === "number" && r.peer.pid > 0 && <><dt className="text-soft">procid</dt><dd>{r.peer.pid} <span className="text-soft">as the kernel tells</span></dd></>}
        {r.peer && <><dt className="text-soft">peer</dt><dd><Tree value={r.peer} /></dd></>}
        {r.received && <><dt className="text-soft">received</dt><dd>{clock(new Date(r.received), true)}</dd></>}
      </dl>
      {r.fields && <><h3 className="mb-1 font-semibold">Fields</h3><div className="mb-4"><Tree value={r.fields} /></div></>}
      <Link className="mb-4 underline hover:text-amber" to="/plans" state={{ record: r }}>Explain with a plan</Link>
      {hasPlace(r) && <Neighbours record={r} cask={cask} onOpen={onOpen} />}
      <h3 className="mb-1 font-semibold">As it is kept</h3>
      <pre className="rounded bg-paper p-3 font-mono text-xs whitespace-pre-wrap [overflow-wrap:anywhere]">{JSON.stringify(r, null, 2)}</pre>
    </aside>
  );
}

// Neighbours shows what came before and after a record, of the same agent.
function Neighbours({ record: r, cask, onOpen }: { record: Rec; cask: string; onOpen: (r: Rec) => void }) {
  const [each, setEach] = useState(5);
  const found = useQuery({ queryKey: keys.neighbours([r.time, r.received, r.text, cask, each]), queryFn: ({ signal }) => neighbours(r, cask, each, signal), placeholderData: (old) => old });
  return (
    <section className="mb-4">
      <h3 className="mb-1 font-semibold">Before and after{r.agent ? ` by the agent of ${r.agent}` : ""}</h3>
      {found.error && <Alert>{found.error.message}</Alert>}
      <ul className="rounded bg-paper p-1">
        {found.data?.map((n, i) => (
          <li key={i}>
            <button aria-current={n === r} className={`flex w-full items-baseline gap-2 rounded px-2 py-0.5 text-left text-xs hover:bg-wash ${n === r ? "bg-wash" : ""}`} onClick={() => onOpen(n)}>
              <span className="shrink-0 font-mono text-soft" title={n.time}>{n.time && clock(new Date(n.time))}</span>
              <span className="w-20 shrink-0"><Severity name={n.severity} /></span>
              <span className="truncate font-mono"><span className="text-soft">{n.host === r.host ? "" : `${n.host ?? "-"} `}{n.app ?? "-"}</span> {n.text}</span>
            </button>
          </li>
        ))}
      </ul>
      {each < 320 && <Button look="link" className="mt-1" onClick={() => setEach(each * 4)}>more</Button>}
    </section>
  );
}

function Tree({ value }: { value: Value }) {
  if (value === null || typeof value !== "object") return <span className="font-mono text-sm [overflow-wrap:anywhere]">{String(value)}</span>;
  const entries = Object.entries(value);
  if (entries.length === 0) return <span className="text-soft">empty</span>;
  return (
    <ul>
      {entries.map(([key, v]) => {
        const nested = v !== null && typeof v === "object";
        return (
          <li key={key}>
            <span className="text-amber">{key}</span>{nested ? "" : " "}
            {nested ? <div className="border-l border-line pl-3"><Tree value={v} /></div> : <Tree value={v} />}
          </li>
        );
      })}
    </ul>
  );
}
