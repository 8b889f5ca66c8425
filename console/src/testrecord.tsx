import { useMutation, useQuery } from "@tanstack/react-query";
import { Send } from "lucide-react";
import { Link } from "react-router";
import { get, order, type Account, type Host } from "./api";

// useMayOperate tells whether who has signed in may give orders.
export function useMayOperate(): boolean {
  const session = useQuery({ queryKey: ["session"], queryFn: () => get<Account>("/session") });
  return !!session.data && session.data.role !== "viewer";
}

// TestRecord lets who may order it send a record through a host's rules, and tells where it went.
export function TestRecord({ host: h }: { host: Host }) {
  const may = useMayOperate();
  const test = useMutation({ mutationFn: () => order(h.agent_id, { kind: "test_record" }) });
  if (!may) return <p className="text-sm text-soft">An operator can send a test record through this host's rules.</p>;
  const { text = "", goes_to: outlets = [], why } = test.data?.outcome ?? {};
  const kept = h.status.outlets.some((o) => o.kind === "store" && outlets.includes(o.name));
  return (
    <div className="text-sm text-soft" aria-live="polite">
      <button className="inline-flex items-center gap-1.5 py-0.5 hover:text-ink disabled:opacity-60" disabled={test.isPending} onClick={() => test.mutate()}>
        <Send size={13} aria-hidden /> {test.isPending ? "waiting for the agent…" : "Send a test record"}
      </button>
      {test.error && <div role="alert">{test.error.message}</div>}
      {test.data && (
        <div>
          {why ?? (outlets.length === 0 ? `${text}: dropped by the rules` : `${text}: went to ${outlets.join(", ")}`)}
          {kept ? <>; <Link className="underline hover:text-ink" to={`/logs?range=15m&live=1&q=${encodeURIComponent(`text is "${text}"`)}`}>see it in the store</Link></> : !why && "; the rules send it to no store"}
        </div>
      )}
    </div>
  );
}
