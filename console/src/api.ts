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
  out: number;
  held: number;
  shed: number;
  refused: number;
  trouble: string;
}

export interface Host {
  name: string;
  agent_id: string;
  last_heard: string;
  plan_hash: string;
  held: number;
  status: {
    since: string;
    plan: { file: string; read_at: string; changed_on_disk: boolean; refused: { at: string; why: string } | null };
    intakes: { name: string; read: number; missed: number; unparsed: number; last_record: string | null }[];
    rules: { in: number; routed: number; dropped: number };
    outlets: Outlet[];
    balance: { closes: boolean; difference: number };
  };
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
  return (await ask("/session", { method: "POST", headers: { "Content-Type": "application/json" }, body: JSON.stringify({ name, password }) })).json();
}

export async function signOut(): Promise<void> {
  await ask("/session", { method: "DELETE" });
}

// A page of a search, and the place behind which the next one goes on.
export interface Page {
  records: Rec[];
  next?: string;
}

export async function records(query: URLSearchParams, limit: number, after: string, signal?: AbortSignal): Promise<Page> {
  const page = new URLSearchParams([...query, ["limit", String(limit)], ["places", "true"]]);
  if (after) page.set("after", after);
  const lines: { place: string; record: Rec }[] = (await (await ask("/records?" + page, { signal })).text()).split("\n").filter(Boolean).map((line) => JSON.parse(line));
  return { records: lines.map((l) => l.record), next: lines.length === limit ? lines.at(-1)!.place : undefined };
}

export interface Order {
  id: number;
  done: string | null;
  outcome: { text?: string; goes_to?: string[]; why?: string };
}

// orderTestRecord makes an agent pass a record through its rules, and returns what came of it.
export async function orderTestRecord(agent: string): Promise<Order> {
  const path = `/agents/${agent}/orders`;
  let order: Order = await (await ask(path, { method: "POST", headers: { "Content-Type": "application/json" }, body: JSON.stringify({ kind: "test_record" }) })).json();
  for (const began = Date.now(); !order.done; order = await get<Order>(`${path}/${order.id}`)) {
    if (Date.now() - began > 20000) throw new Problem(0, "The agent has not answered. Is it running, and does it reach this service? The order waits for it for ten minutes.");
    await new Promise((resolve) => setTimeout(resolve, 250));
  }
  return order;
}
