// What the service says, and how it is asked. docs/store.md describes the interface.
import type { components } from "./schema";

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
  agent?: string;
  text?: string;
  fields?: { [key: string]: Value };
  intake?: string;
  peer?: { [key: string]: Value };
  stream?: string;
  raw?: string;
}

// What the service answers is described in console/openapi.json, of which schema.d.ts
// is made. These are its names here.
type Said = components["schemas"];
export type Account = Said["Account"];
export type Act = Said["Act"];
export type Cask = Said["Cask"];
export type Shape = Said["ShapeOf"];
export type Shapes = Said["Shapes"];
export type Shelf = Said["Shelf"];
export type CaskAndFeeds = Said["CaskAndFeeds"];
export type Cell = Said["Cell"];
export type Checked = Said["CheckedPlan"];
export type Container = Said["ContainerStatus"];
export type DiskForecast = Said["Disk"];
export type Fault = Said["Fault"];
export type Finding = Said["Finding"];
export type FollowedFile = Said["FollowedFile"];
export type GivenAccount = Said["GivenAccount"];
export type GivenToken = Said["GivenToken"];
export type Hop = Said["Hop"];
export type Host = Said["HostStatus"];
export type Order = Said["Order"];
export type Outlet = Said["OutletStatus"];
export type Piece = Said["Piece"];
export type SentInvitation = Said["SentInvitation"];
export type Joining = Said["Joining"];
export type SetForecast = Said["Set"];
export type Told = Said["Told"];
export type Verdict = Said["Verdict"];
export type View = Said["View"];
export type FleetHost = Said["FleetHost"];
export type Overview = Said["Overview"];
export type JudgedPlan = Said["JudgedPlan"];
export type PlanAssignment = Said["PlanAssignment"];
export type PlanLine = Said["PlanLine"];
export type PlanRevision = Said["PlanRevision"];
export type ComparedPlan = Said["ComparedPlan"];
export type Rollout = Said["Rollout"];
export type StoredAlert = Said["Alert"];
export type TriedAlert = Said["TriedAlert"];
export type Notice = Said["Notice"];
export type Receiver = Said["Receiver"];
export type Retention = Pick<Cask, "keep_days" | "keep_total" | "held" | "days_at_most">;
export type Explained = Omit<Said["Explanation"], "record" | "becomes"> & { record: Rec; becomes?: Rec };
export type Compared = Omit<Said["Compared"], "changes"> & { changes: (Omit<Said["ComparedChange"], "examples"> & { examples: Rec[] })[] };

// listOf returns a list that a host tells of, none where it is not a list.
export const listOf = <T>(told: T[] | undefined): T[] => (Array.isArray(told) ? told : []);

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

// stream asks for what is read as it comes.
export const stream = (path: string, signal: AbortSignal) => ask(path, { signal });

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

// neighbours returns what came before and after a record, of the same agent, and it in the middle.
export async function neighbours(r: Rec, cask: string, each: number, signal?: AbortSignal): Promise<Rec[]> {
  const p = new URLSearchParams({ place: places.get(r)!, each: String(each) });
  if (cask) p.set("cask", cask);
  if (r.agent) p.set("agent", r.agent);
  else if (r.host) p.set("host", r.host);
  const n = await get<{ before: Placed[]; after: Placed[] }>("/neighbours?" + p, signal);
  return [...n.before.map(remember), r, ...n.after.map(remember)];
}

// A page of a search, and the place behind which the next one goes on.
export interface Page {
  records: Rec[];
  next?: string;
  missing: string[]; // shelves that were away
}

export async function records(query: URLSearchParams, limit: number, after: string, signal?: AbortSignal, onProgress?: (searched: number, of: number) => void): Promise<Page> {
  const page = new URLSearchParams([...query, ["limit", String(limit)], ["places", "true"], ["progress", "true"]]);
  if (after) page.set("after", after);
  const lines: Placed[] = [];
  let missing: string[] = [];
  for await (const line of linesOf(await ask("/records?" + page, { signal }))) {
    const l: Placed & { searched?: number; of?: number; missing?: string[] } = JSON.parse(line);
    if (l.place) lines.push(l);
    else if (l.missing) missing = l.missing;
    else onProgress?.(l.searched!, l.of!);
  }
  return { records: lines.map(remember), next: lines.length === limit ? lines.at(-1)!.place : undefined, missing };
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

const asJSON = (method: string, body: unknown): RequestInit => ({ method, headers: { "Content-Type": "application/json" }, body: JSON.stringify(body) });

async function post<T>(path: string, body: unknown, signal?: AbortSignal): Promise<T> {
  return (await ask(path, { ...asJSON("POST", body), signal })).json();
}

export async function setCask(name: string, to: Retention): Promise<CaskAndFeeds> {
  return (await ask(`/casks/${encodeURIComponent(name)}`, asJSON("PATCH", to))).json();
}

// invite makes an invitation as one text, the same that the command makes.
export async function invite(cask: string, label: string, uses: number): Promise<{ text: string; ends: string; uses: number }> {
  const made = await post<{ code: string; ends: string; fingerprint: string }>("/invitations", { cask, label, uses, minutes: uses > 1 ? 24 * 60 : 60 });
  const ticket = JSON.stringify({ u: location.origin, c: made.code, f: made.fingerprint || undefined });
  return { text: "barrel-" + btoa(ticket).replace(/\+/g, "-").replace(/\//g, "_").replace(/=+$/, ""), ends: made.ends, uses };
}

export const setAccount = (name: string, role: GivenAccount["role"]) => ask(`/accounts/${encodeURIComponent(name)}`, asJSON("PATCH", { role }));
export const removeAccount = (name: string) => ask(`/accounts/${encodeURIComponent(name)}`, { method: "DELETE" });
export const revokeToken = (id: number) => ask(`/tokens/${id}`, { method: "DELETE" });
export const adopt = (agent: string) => ask(`/agents/${agent}/adopt`, { method: "POST" });
export const setPassword = (old: string, next: string) => ask("/session/password", asJSON("PUT", { old, new: next }));

export async function keepView(v: View): Promise<View[]> {
  return (await ask("/views", asJSON("PUT", v))).json();
}

export async function dropView(name: string, shared: boolean): Promise<View[]> {
  return (await ask("/views?" + new URLSearchParams({ name, shared: String(shared) }), { method: "DELETE" })).json();
}

// order gives an agent an order, and returns what came of it.
export async function order(agent: string, what: Omit<Said["NewOrder"], "$schema">): Promise<Order> {
  const path = `/agents/${agent}/orders`;
  let given = await post<Order>(path, what);
  for (const began = Date.now(); !given.done; given = await get<Order>(`${path}/${given.id}`)) {
    if (Date.now() - began > 20000) throw new Problem(0, "The agent has not answered. Is it running, and does it reach this service? The order waits for it for ten minutes.");
    await new Promise((resolve) => setTimeout(resolve, 250));
  }
  return given;
}

const put = async <T>(path: string, body: unknown): Promise<T> => (await ask(path, asJSON("PUT", body))).json();
const planPath = (name: string) => `/plans/${encodeURIComponent(name)}`;
export const judgeDraft = (name: string, text: string, signal?: AbortSignal) => post<JudgedPlan>(`${planPath(name)}/judge`, { text }, signal);
export const putPlan = (name: string, r: { text: string; why: string; base: number }) => put<Said["PutPlan"]>(planPath(name), r);
export const comparePlan = (name: string, q: { from: number; to: number; since: string; limit: number }) => post<ComparedPlan>(`${planPath(name)}/compare`, q);
export const assign = (a: { name: string; plan: string; when: string; approve: boolean }) => ask("/assignments", asJSON("PUT", a));
export const unassign = (name: string) => ask(`/assignments/${encodeURIComponent(name)}`, { method: "DELETE" });
export const setLabels = (agent: string, s: { labels?: { [name: string]: string }; values?: { [name: string]: string } }) => ask(`/agents/${agent}/labels`, asJSON("PUT", s));
export const startRollout = (n: { plan: string; revision: number; waves: string; seconds: number; why: string }) => post<Rollout>("/rollouts", n);
export const steer = (id: string, where: string) => post<Rollout>(`/rollouts/${id}/${where}`, {});
export const planOf = (agent: string) => get<Said["AgentPlan"]>(`/agents/${agent}/plan`);
export const checkPlan = (text: string, signal?: AbortSignal) => post<Checked>("/plans/check", { text }, signal);
export const explain = (text: string, what: { line: string; intake?: string } | { record: Rec }) => post<Explained>("/plans/explain", { text, ...what });
export const compare = (body: { old: string; new: string; cask?: string; since: string }) => post<Compared>("/plans/compare", body);

const alertPath = (name: string) => `/alerts/${encodeURIComponent(name)}`;
const receiverPath = (name: string) => `/receivers/${encodeURIComponent(name)}`;
export const putAlert = (name: string, a: { text: string; base?: number; off?: boolean }) => put<StoredAlert>(alertPath(name), a);
export const removeAlert = (name: string) => ask(alertPath(name), { method: "DELETE" });
export const tryAlert = (name: string, text: string, days: number, signal?: AbortSignal) => post<TriedAlert>("/alerts/try", { name, text, days }, signal);
export const steerNotice = (id: number, s: { do: "take" | "leave" | "mute" | "done" | "reopen"; minutes?: number; why?: string }) => post<Notice>(`/notices/${id}`, s);
export const putReceiver = (name: string, r: Omit<Said["PutReceiver"], "$schema">) => ask(receiverPath(name), asJSON("PUT", r));
export const removeReceiver = (name: string) => ask(receiverPath(name), { method: "DELETE" });
export const tryReceiver = (name: string) => ask(`${receiverPath(name)}/try`, { method: "POST" });
