// What the service says, and how it is asked. docs/store.md describes the interface.

export type Value = string | number | boolean | null | Value[] | { [key: string]: Value };

export interface Rec {
  time?: string;
  received?: string;
  facility: string;
  severity: string;
  host?: string;
  app?: string;
  procid?: string;
  msgid?: string;
  text?: string;
  fields?: { [key: string]: Value };
  intake?: string;
  peer?: { [key: string]: Value };
  stream?: string;
  raw?: string;
}

export interface Outlet {
  name: string;
  kind: string;
  path: string;
  in: number;
  held_at_start: number;
  files: number;
  paths: string[] | null;
  live_bytes: number;
  pieces: number;
  piece_bytes: number;
  out: number;
  held: number;
  shed: number;
  refused: number;
  trouble: string;
  held_since?: string | null;
  next_try?: string | null;
}

// What a forecast tells of a source of files, and of a disk. Bytes are those on disk.
export interface SetForecast {
  name: string;
  bytes: number;
  bytes_per_day: number;
  oldest: string | null;
  will_reach: number | null;
  ceiling: number | null;
  disk: string;
}

export interface DiskForecast {
  folder: string;
  size: number;
  free: number;
  floor: number;
  bytes_per_day: number;
  full: string | null;
  ceiling: number | null;
  fits: boolean;
}

export interface Container {
  intake: string;
  name: string;
  id: string;
  image: string;
  pod: string;
  running: boolean;
  read: boolean;
  why: string;
  stdout_per_minute: number;
  stderr_per_minute: number;
  log_driver: string;
  advice: { what: string; remedy: string }[];
  layer_bytes: number;
  layer_bytes_per_hour: number;
  growing: { path: string; bytes: number; grown: number }[];
}

export interface FollowedFile {
  intake: string;
  file: string;
  size: number;
  read: number;
  behind: number;
  behind_seconds: number;
  state: "reading" | "at end" | "finished" | "not read";
  why: string;
  cuts: number;
  cut_seconds: number;
}

export interface Host {
  name: string;
  agent_id: string;
  last_heard: string;
  plan_hash: string;
  held: number;
  tally_trouble?: { path: string; what: string; at: string }[];
  status: {
    since: string;
    plan: { file: string; read_at: string; changed_on_disk: boolean; refused: { at: string; why: string } | null };
    intakes: { name: string; kind: string; addresses: string[]; read: number; missed: number; unparsed: number; turned_away: number; last_record: string | null; trouble?: string }[];
    rules: { in: number; routed: number; dropped: number };
    outlets: Outlet[];
    balance: { closes: boolean; difference: number };
    followed?: FollowedFile[];
    containers?: Container[];
    tended?: { tend: string; path: string; live_bytes: number; pieces: number; piece_bytes: number; trouble: string }[];
    forecast?: { sets: SetForecast[]; disks: DiskForecast[] };
    told?: Told[];
    faults?: Fault[];
    damaged?: { at: string; part: string; file: string; cost: string; aside: string }[];
    details?: { rule: string; from: string; to: string; until: string }[];
  };
}

// A part of an agent that has failed; next is when it is begun again, null where it runs.
export interface Fault {
  part: string;
  count: number;
  first: string;
  last: string;
  what: string;
  where: string;
  lost: number;
  next: string | null;
}

// A notice that a person got.
export interface Told {
  at: string;
  outlet: string;
  title: string;
  text: string;
  records: number;
}

export class Problem extends Error {
  status: number;
  constructor(status: number, message: string) {
    super(message);
    this.status = status;
  }
}

async function ask(path: string, init?: RequestInit): Promise<Response> {
  let response: Response;
  try {
    response = await fetch("/api/v1" + path, init);
  } catch {
    throw new Problem(0, "The service cannot be reached. It may be starting again; this page tries by itself.");
  }
  if (response.ok) return response;
  const body = await response.json().catch(() => ({}));
  const detail: string = body.detail || `The service answers ${response.status}.`;
  throw new Problem(response.status, body.mend ? `${detail}; ${body.mend}` : detail);
}

export async function get<T>(path: string, signal?: AbortSignal): Promise<T> {
  return (await ask(path, { signal })).json();
}

export interface Account {
  name: string;
  role: string;
}

export async function signIn(name: string, password: string): Promise<Account> {
  return post<Account>("/session", { name, password });
}

export async function signOut(): Promise<void> {
  await ask("/session", { method: "DELETE" });
}

interface Placed {
  place: string;
  record: Rec;
}

const places = new WeakMap<Rec, string>();

function remember(p: Placed): Rec {
  places.set(p.record, p.place);
  return p.record;
}

// hasPlace tells whether it is known where a record stands in the store.
export const hasPlace = (r: Rec) => places.has(r);

// neighbours returns what came before and after a record on its host, and it in the middle.
export async function neighbours(r: Rec, cask: string, each: number, signal?: AbortSignal): Promise<Rec[]> {
  const p = new URLSearchParams({ place: places.get(r)!, each: String(each) });
  if (cask) p.set("cask", cask);
  if (r.host) p.set("host", r.host);
  const n = await get<{ before: Placed[]; after: Placed[] }>("/neighbours?" + p, signal);
  return [...n.before.map(remember), r, ...n.after.map(remember)];
}

// A page of a search, and the place behind which the next one goes on.
export interface Page {
  records: Rec[];
  next?: string;
}

export async function records(query: URLSearchParams, limit: number, after: string, signal?: AbortSignal, onProgress?: (searched: number, of: number) => void): Promise<Page> {
  const page = new URLSearchParams([...query, ["limit", String(limit)], ["places", "true"], ["progress", "true"]]);
  if (after) page.set("after", after);
  const lines: Placed[] = [];
  for await (const line of linesOf(await ask("/records?" + page, { signal }))) {
    const l: Placed & { searched?: number; of?: number } = JSON.parse(line);
    if (l.place) lines.push(l);
    else onProgress?.(l.searched!, l.of!);
  }
  return { records: lines.map(remember), next: lines.length === limit ? lines.at(-1)!.place : undefined };
}

// linesOf reads the lines of an answer as they come.
async function* linesOf(response: Response): AsyncGenerator<string> {
  const reader = response.body!.pipeThrough(new TextDecoderStream()).getReader();
  let rest = "";
  for (;;) {
    const { done, value } = await reader.read();
    const parts = (rest + (value ?? "")).split("\n");
    rest = parts.pop()!;
    yield* parts.filter(Boolean);
    if (done) return;
  }
}

export interface Order {
  id: number;
  done: string | null;
  outcome: { text?: string; goes_to?: string[]; hops?: Hop[]; why?: string; rolled?: { path: string; rolled: boolean; piece: string; why: string }[]; pieces?: Piece[]; lines?: string[]; verdict?: Verdict };
}

// A closed file of a rolled set.
export interface Piece {
  name: string;
  size: number;
  bytes: number;
  records: number;
  rolled: string;
  first: string | null;
  last: string | null;
  tallied: boolean;
}

// What the check of a set against its tally has found.
export interface Verdict {
  ok: boolean;
  hash: string;
  pieces: number;
  records: number;
  removed: number;
  why: string;
  piece: string;
}

// Hop is a station that a traced record has come to, or where it has stopped.
export interface Hop {
  hop: string;
  outlet?: string;
  ms: number;
  done: boolean;
  detail: string;
}

async function post<T>(path: string, body: unknown, signal?: AbortSignal): Promise<T> {
  return (await ask(path, { method: "POST", headers: { "Content-Type": "application/json" }, body: JSON.stringify(body), signal })).json();
}

// For how long a cask keeps its records; 0 stands for no bound. Sizes are bytes.
export interface Retention {
  keep_days: number;
  keep_total: number;
  held: boolean;
  days_at_most: number;
}

export interface Cask extends Retention {
  name: string;
  records: number;
  bytes: number;
  first: string | null;
  last: string | null;
  bytes_per_day: number;
  will_reach: number | null;
}

export interface CaskAndFeeds extends Cask {
  feeds: { host: string; sender: string; agent_id: string; outlet: string; confirmed: number; records: number; shed: number; lost: number; refused: number; arrived: string | null; delay_seconds: number }[];
}

export async function setCask(name: string, to: Retention): Promise<CaskAndFeeds> {
  return (await ask(`/casks/${encodeURIComponent(name)}`, { method: "PATCH", headers: { "Content-Type": "application/json" }, body: JSON.stringify(to) })).json();
}

// invite makes an invitation as one text, the same that the command makes.
export async function invite(cask: string, label: string): Promise<{ text: string; ends: string }> {
  const made = await post<{ code: string; ends: string; fingerprint: string }>("/invitations", { cask, label, minutes: 60 });
  const ticket = JSON.stringify({ u: location.origin, c: made.code, f: made.fingerprint || undefined });
  return { text: "barrel-" + btoa(ticket).replace(/\+/g, "-").replace(/\//g, "_").replace(/=+$/, ""), ends: made.ends };
}

// A search that somebody has kept, for everybody.
export interface View {
  name: string;
  cask?: string;
  since: string;
  where?: string;
}

export async function keepView(v: View): Promise<View[]> {
  return (await ask("/views", { method: "PUT", headers: { "Content-Type": "application/json" }, body: JSON.stringify(v) })).json();
}

export async function dropView(name: string): Promise<View[]> {
  return (await ask("/views?" + new URLSearchParams({ name }), { method: "DELETE" })).json();
}

// order gives an agent an order, and returns what came of it.
export async function order(agent: string, what: { kind: string; rule?: string; to?: string; seconds?: number; outlet?: string; path?: string }): Promise<Order> {
  const path = `/agents/${agent}/orders`;
  let given = await post<Order>(path, what);
  for (const began = Date.now(); !given.done; given = await get<Order>(`${path}/${given.id}`)) {
    if (Date.now() - began > 20000) throw new Problem(0, "The agent has not answered. Is it running, and does it reach this service? The order waits for it for ten minutes.");
    await new Promise((resolve) => setTimeout(resolve, 250));
  }
  return given;
}

export interface Finding {
  line: number;
  column: number;
  kind: "error" | "warning";
  what: string;
  mend: string;
}

export interface Cell {
  facility: string;
  severity: string;
  surely: string[];
  maybe: string[];
  nowhere: "never" | "maybe" | "always";
}

export interface Checked {
  findings: Finding[];
  outlets: string[];
  rules: string[];
  about: string[]; // of each rule, a digit for each priority: 0 never, 1 maybe, 2 always
  cells: Cell[];
}

export interface Explained {
  record: Rec;
  becomes?: Rec;
  rules: { name: string; matched: boolean; reached: boolean; because: string; changes: string[] }[];
  otherwise: boolean;
  dropped_by: string | null;
  goes_to: string[];
}

export interface Compared {
  records: number;
  since: string;
  until: string;
  same: number;
  moved: number;
  no_longer_kept: number;
  newly_kept: number;
  outlets: { name: string; old_records: number; new_records: number; old_bytes_a_day: number | null; new_bytes_a_day: number | null }[];
  changes: { records: number; from: string[]; to: string[]; old_rules: string[]; new_rules: string[]; examples: Rec[] }[];
}

export const planOf = (agent: string) => get<{ hash: string; text: string }>(`/agents/${agent}/plan`);
export const checkPlan = (text: string, signal?: AbortSignal) => post<Checked>("/plans/check", { text }, signal);
export const explain = (text: string, what: { line: string } | { record: Rec }) => post<Explained>("/plans/explain", { text, ...what });
export const compare = (body: { old: string; new: string; cask?: string; since: string }) => post<Compared>("/plans/compare", body);
