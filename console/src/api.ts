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

export async function records(query: URLSearchParams, signal?: AbortSignal): Promise<Rec[]> {
  const text = await (await ask("/records?" + query, { signal })).text();
  return text.split("\n").filter(Boolean).map((line) => JSON.parse(line));
}
