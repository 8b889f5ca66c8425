import { useMutation } from "@tanstack/react-query";
import { Check, Send, TriangleAlert } from "lucide-react";
import { Link } from "react-router";
import { order, records, type Hop, type Host } from "./api";
import { useMayOperate } from "./queries";
import { Alert } from "./ui";

const queryOf = (text: string) => `text is ${JSON.stringify(text)}`;

// find looks for a record in the store, at the end of its way.
async function find(text: string, began: number): Promise<Hop> {
  const since = new Date(Date.now() - 3600e3).toISOString();
  for (let tries = 0; tries < 20; tries++) {
    const page = await records(new URLSearchParams({ where: queryOf(text), since }), 1, "");
    const ms = performance.now() - began;
    if (page.records.length > 0) return { hop: "found", ms, done: true, detail: "by a search in the store, asked from here" };
    await new Promise((r) => setTimeout(r, 250));
  }
  return { hop: "found", ms: performance.now() - began, done: false, detail: "the store has it, but a search does not show it" };
}

async function trace(agent: string) {
  const began = performance.now();
  const { text = "", goes_to = [], hops = [], why } = (await order(agent, { kind: "test_record" })).outcome;
  const stored = hops.some((h) => h.hop === "confirmed" && h.done);
  return { text, why, outlets: goes_to, stored, hops: stored ? [...hops, await find(text, began)] : hops };
}

// TestRecord lets who may order it send a record through a host's rules, and tells hop by hop how far it came.
export function TestRecord({ host: h }: { host: Host }) {
  const may = useMayOperate();
  const test = useMutation({ mutationFn: () => trace(h.agent_id) });
  if (!may) return <p className="text-sm text-soft">An operator can send a test record through this host's rules.</p>;
  const came = test.data;
  return (
    <div className="text-sm" aria-live="polite">
      <button className="inline-flex items-center gap-1.5 py-0.5 text-soft hover:text-ink disabled:opacity-60" disabled={test.isPending} onClick={() => test.mutate()}>
        <Send size={13} aria-hidden /> {test.isPending ? "on its way; a store confirms it with its next batch…" : "Send a test record"}
      </button>
      {test.error && <Alert>{test.error.message}</Alert>}
      {came && (
        <div className="mt-1">
          {came.why ?? `${came.text}: ${came.outlets.length === 0 ? "dropped by the rules" : `went to ${came.outlets.join(", ")}`}`}
          {came.stored && <>; <Link className="underline" to={`/logs?range=15m&live=1&q=${encodeURIComponent(queryOf(came.text))}`}>see it in the store</Link></>}
          <Hops hops={came.hops} />
        </div>
      )}
    </div>
  );
}

// Hops lists the stations of a record with the time that each was reached, and where it stopped.
function Hops({ hops }: { hops: Hop[] }) {
  return (
    <table className="mt-2 w-full" aria-label="hops">
      <tbody>
        {hops.map((h, i) => (
          <tr key={i} className="border-t border-line align-top">
            <td className="py-1 pr-3 text-right whitespace-nowrap tabular-nums text-soft">{h.ms.toFixed(1)} ms</td>
            <td className="py-1 pr-3 whitespace-nowrap">
              {h.done ? <Check size={13} className="mr-1 inline" aria-label="reached" /> : <TriangleAlert size={13} className="mr-1 inline text-amber" aria-label="not reached" />}
              {h.done ? h.hop : `not ${h.hop}`}
              {h.outlet && <span className="text-soft"> · {h.outlet}</span>}
            </td>
            <td className="py-1 break-words text-soft">{h.detail}</td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}
