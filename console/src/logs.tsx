import { useInfiniteQuery, useQuery } from "@tanstack/react-query";
import { Pause, Play, Radio } from "lucide-react";
import { useCallback, useEffect, useMemo, useRef, useState } from "react";
import { Popover } from "radix-ui";
import { Link } from "react-router";
import { useAddress } from "./address";
import { get, records, type Rec } from "./api";
import { Counted, countedBy } from "./counted";
import { Export } from "./export";
import { Histogram } from "./histogram";
import { inField } from "./keys";
import { narrowed, QueryLine } from "./query";
import { Views } from "./views";
import { RecordPanel } from "./record";
import { RecordList, columnsOf } from "./recordlist";
import { asInput, count, rangeOf, ranges } from "./time";
import { keys, useCasks, useMayOperate } from "./queries";
import { Alert, Button, control, Missing } from "./ui";

const limit = 2000; // records that are fetched at a time
const most = 20000; // records that a live view keeps in sight

const units: Record<string, number> = { s: 1e3, m: 60e3, h: 3600e3, d: 24 * 3600e3 };

// spanOf returns the span of the address bar for how long ago something begins.
function spanOf(ago: string) {
  if (rangeOf(ago, "") || !ago) return { range: ago || "1h", since: null, until: null };
  const until = Date.now();
  return { range: null, since: String(until - Number(ago.slice(0, -1)) * units[ago.slice(-1)]), until: String(until) };
}

// ends are those of a span, as the address bar has them.
const ends = (since: number, until: number) => ({ since: String(Math.round(since)), until: String(Math.round(until)), range: null });

// Ends takes the ends of a span, in the viewer's zone.
function Ends({ since, until, onChange }: { since: number; until: number; onChange: (since: number, until: number) => void }) {
  const field = (name: string, value: number, change: (t: number) => void) => (
    <input type="datetime-local" step={1} aria-label={name} className={control} value={asInput(value)} onChange={(e) => !isNaN(Date.parse(e.target.value)) && change(Date.parse(e.target.value))} />
  );
  return <>{field("from", since, (t) => onChange(t, t < until ? until : t + until - since))}{field("to", until, (t) => onChange(t > since ? since : t - until + since, t))}</>;
}

// The address bar holds the view: q is the condition, range or since and until the span, cask the cask, live the live view,
// by what the records are counted by, columns what else is shown of each, unfold all lines of texts, beside the span before.
export default function Logs() {
  const { params, change: changeAddress } = useAddress();
  const condition = params.get("q") ?? "";
  const live = params.get("live") === "1";
  const cask = params.get("cask") ?? "";
  const beside = params.get("beside") === "1";
  const columns = params.get("columns") ?? "";
  const unfold = params.get("unfold") === "1";
  const by = countedBy.find((p) => p === params.get("by"));
  const since = Number(params.get("since")), until = Number(params.get("until"));
  const range = rangeOf(params.get("range"), since > 0 && until > since ? "" : "1h");
  const input = useRef<HTMLInputElement>(null);
  const [open, setOpen] = useState<Rec | null>(null);
  const [progress, setProgress] = useState("");

  const change = useCallback(
    (next: Record<string, string | null>) => {
      setOpen(null);
      changeAddress(next);
    },
    [changeAddress],
  );
  const casks = useCasks();
  const mayAlert = useMayOperate();
  const span = useMemo(() => {
    if (!range) return { since, until };
    const now = Math.ceil(Date.now() / 1000) * 1000;
    return { since: now - ranges[range], until: now };
  }, [range, since, until, condition, cask, live]);
  const query = useMemo(() => {
    const p = new URLSearchParams({ since: new Date(span.since).toISOString(), until: new Date(span.until).toISOString() });
    if (condition) p.set("where", condition);
    if (cask) p.set("cask", cask);
    return p;
  }, [span, condition, cask]);
  const found = useInfiniteQuery({
    queryKey: keys.records(query.toString()),
    queryFn: ({ pageParam, signal }) => {
      setProgress("");
      return records(query, limit, pageParam, signal, (n, of) => setProgress(` ${count(n)} of ${count(of)} blocks`));
    },
    initialPageParam: "",
    getNextPageParam: (page) => page.next,
  });
  const shape = useQuery({ queryKey: keys.histogram(query.toString()), queryFn: ({ signal }) => get<number[][]>(`/histogram?parts=80&${query}`, signal) });
  const earlier = useMemo(() => {
    const p = new URLSearchParams(query);
    p.set("until", p.get("since")!);
    p.set("since", new Date(2 * span.since - span.until).toISOString());
    return p.toString();
  }, [query, span]);
  const before = useQuery({ queryKey: keys.histogram(earlier), queryFn: ({ signal }) => get<number[][]>(`/histogram?parts=80&${earlier}`, signal), enabled: beside });
  const follower = useLive(live, condition, cask);
  const list = useMemo(() => {
    const searched = found.data?.pages.flatMap((page) => page.records) ?? [];
    return live ? [...searched.toReversed(), ...follower.seen] : searched; // live it runs down, as it is said
  }, [live, follower.seen, found.data]);
  const fetchMore = useCallback(() => {
    if (found.hasNextPage && !found.isFetching) found.fetchNextPage();
  }, [found.hasNextPage, found.isFetching, found.fetchNextPage]);
  const total = shape.data?.flat().reduce((a, b) => a + b, 0);

  useEffect(() => {
    const press = (e: KeyboardEvent) => {
      if (inField(e)) return;
      if (e.key === "/") {
        e.preventDefault();
        input.current?.focus();
      }
      if (e.key === "Escape") setOpen(null);
      if (e.key === "j" || e.key === "k") {
        const at = open ? list.indexOf(open) : -1;
        const next = list[Math.max(0, at + (e.key === "j" ? 1 : -1))];
        if (next) setOpen(next);
      }
    };
    window.addEventListener("keydown", press);
    return () => window.removeEventListener("keydown", press);
  }, [list, open]);

  const narrow = (to: string) => change({ q: narrowed(condition, to) });
  const problem = found.error ?? shape.error;
  return (
    <div className="flex h-full flex-col">
      <div className="border-b border-line bg-sheet px-3 pt-3 pb-2 sm:px-5">
        <h1 className="sr-only">Logs</h1>
        <div className="mb-2 flex flex-wrap gap-2">
          <QueryLine value={condition} inputRef={input} onRun={(q) => change({ q })} />
          <select aria-label="cask" className={control} value={cask} onChange={(e) => change({ cask: e.target.value })}>
            <option value="">every cask</option>
            {casks.data?.map((c) => <option key={c.name}>{c.name}</option>)}
          </select>
          <select
            aria-label="span"
            className={control}
            value={range}
            onChange={(e) => change(e.target.value ? { range: e.target.value, since: null, until: null } : { ...ends(span.since, span.until), live: null })}
          >
            {Object.keys(ranges).map((r) => <option key={r} value={r}>last {r}</option>)}
            <option value="">from … to …</option>
          </select>
          {!range && <Ends {...span} onChange={(since, until) => change(ends(since, until))} />}
          <select aria-label="count by" className={control} value={by ?? ""} onChange={(e) => change({ by: e.target.value })}>
            <option value="">count by…</option>
            {countedBy.map((p) => <option key={p} value={p}>by {p}</option>)}
          </select>
          <Views shown={{ cask, since: range || "1h", where: condition }} onPick={(v) => change({ q: v.where || null, cask: v.cask || null, live: null, ...spanOf(v.since) })} />
          <Export query={query} total={total} />
          {mayAlert && <Link className={control} to={`/alerts/new?${new URLSearchParams({ ...(condition && { q: condition }), ...(cask && { cask }) })}`}>alert on this</Link>}
          <button className={`${control} flex items-center gap-1.5 ${live ? "border-amber font-semibold text-amber" : ""}`} aria-pressed={live} onClick={() => change({ live: live ? null : "1" })}>
            <Radio size={15} aria-hidden /> Live
          </button>
          <More columns={columns} unfold={unfold} beside={beside} onChange={change} />
          {live && (
            <button className={`${control} flex items-center gap-1.5`} onClick={follower.toggle}>
              {follower.paused ? <Play size={15} aria-hidden /> : <Pause size={15} aria-hidden />}
              {follower.paused ? `Go on${follower.waiting ? `, ${count(follower.waiting)} wait` : ""}` : "Pause"}
            </button>
          )}
        </div>
        {shape.data && <Histogram counts={shape.data} before={beside ? before.data : undefined} {...span} height={56} onSelect={(a, b) => change({ ...ends(a, b), live: null })} />}
      </div>
      {problem && <Alert className="m-3">{problem.message}</Alert>}
      <Missing className="m-3" shelves={found.data?.pages.at(-1)?.missing} />
      <div className="flex min-h-0 flex-1 max-sm:flex-col">
        {by && <Counted by={by} query={query.toString()} onPick={narrow} />}
        <div className={`min-h-0 min-w-0 flex-1 ${open ? "hidden sm:block" : ""}`}>
          <RecordList list={list} columns={columnsOf(columns)} unfold={unfold} open={open} live={live} onOpen={setOpen} onEnd={live ? undefined : fetchMore} />
          {!problem && found.isSuccess && list.length === 0 && (
            <p className="p-5 text-soft">Nothing in this span meets the condition. A longer span, or a condition with less in it, may find more; what hosts hold and have not yet sent is on the page Today.</p>
          )}
        </div>
        {open && <div className="w-full sm:w-96 lg:w-[28rem]"><RecordPanel record={open} cask={cask} onOpen={setOpen} onClose={() => setOpen(null)} onQuery={narrow} /></div>}
      </div>
      <footer className="border-t border-line bg-sheet px-3 py-1 text-sm text-soft sm:px-5">
        {found.isFetching ? `searching…${progress}` : `${count(list.length)} shown${found.hasNextPage && total !== undefined ? ` of ${count(total)}, the newest; more come at the end of the list` : ""}`}
      </footer>
    </div>
  );
}

// More is what else may be shown: columns, whole texts, and the span before in the histogram.
function More({ columns, unfold, beside, onChange }: { columns: string; unfold: boolean; beside: boolean; onChange: (to: Record<string, string | null>) => void }) {
  const box = (name: string, on: boolean, key: string) => <label className="flex items-baseline gap-2"><input type="checkbox" checked={on} onChange={(e) => onChange({ [key]: e.target.checked ? "1" : null })} /> {name}</label>;
  return (
    <Popover.Root>
      <Popover.Trigger className={`${control} ${columns || unfold || beside ? "border-amber font-semibold text-amber" : ""}`}>show…</Popover.Trigger>
      <Popover.Portal>
        <Popover.Content aria-label="what else is shown" align="end" sideOffset={4} className="z-20 w-72 space-y-2 rounded border border-line bg-sheet p-3 text-sm shadow-lg">
          {box("all lines of a text", unfold, "unfold")}
          {box("the span before, as lines in the histogram", beside, "beside")}
          <form onSubmit={(e) => { e.preventDefault(); onChange({ columns: String(new FormData(e.currentTarget).get("columns") ?? "").trim() }); }}>
            <label className="block text-soft" htmlFor="columns">columns, with commas between them</label>
            <input id="columns" name="columns" key={columns} defaultValue={columns} placeholder="procid, facility, tank.id" className={`${control} mt-1 w-full font-mono`} />
            <Button look="plain" className="mt-2">Show them</Button>
          </form>
        </Popover.Content>
      </Popover.Portal>
    </Popover.Root>
  );
}

// useLive collects what is committed from now on. Paused, it goes on collecting and shows it later.
function useLive(on: boolean, condition: string, cask: string) {
  const [seen, setSeen] = useState<Rec[]>([]);
  const [paused, setPaused] = useState(false);
  const [waiting, setWaiting] = useState(0);
  const held = useRef<Rec[]>([]);
  const stopped = useRef(false);
  stopped.current = paused;
  useEffect(() => {
    setSeen([]);
    setPaused(false);
    held.current = [];
    if (!on) return;
    const p = new URLSearchParams();
    if (condition) p.set("where", condition);
    if (cask) p.set("cask", cask);
    const source = new EventSource("/api/v1/follow?" + p);
    source.onmessage = (e) => held.current.push(JSON.parse(e.data));
    const show = setInterval(() => {
      setWaiting(held.current.length);
      if (stopped.current || held.current.length === 0) return;
      const fresh = held.current;
      held.current = [];
      setSeen((old) => [...old, ...fresh].slice(-most));
    }, 150);
    return () => {
      source.close();
      clearInterval(show);
    };
  }, [on, condition, cask]);
  return { seen, paused, waiting, toggle: () => setPaused(!paused) };
}
