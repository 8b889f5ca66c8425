import { useQuery } from "@tanstack/react-query";
import { get, type Rec } from "./api";
import { keys } from "./queries";
import { count } from "./time";
import { Alert } from "./ui";

// What records are counted by, beside their severity.
export const countedBy = ["app", "unit", "host", "agent", "facility", "intake", "msgid"] as const;
const most = 30;
const missing = "(missing)"; // as the service has it

// unitOf returns the unit that the journal tells of a record.
export const unitOf = (r: Rec) => (r.fields as Record<string, { unit?: string } | undefined> | undefined)?.["journal@32473"]?.unit;

type Counts = { total: number; others?: number; by: { key: string; count: number }[] };

// Counted shows which values of a property the records of a search have, the most frequent first; each leads to those that have it.
export function Counted({ by, query, onPick }: { by: string; query: string; onPick: (condition: string) => void }) {
  const found = useQuery({ queryKey: keys.counted(by, query), queryFn: ({ signal }) => get<Counts>(`/counts?by=${by}&top=${most}&${query}`, signal), placeholderData: (old) => old });
  const counts = found.data;
  return (
    <section aria-label={`records by ${by}`} className="w-full shrink-0 overflow-y-auto border-b border-line bg-sheet p-3 max-sm:max-h-48 sm:w-64 sm:border-r sm:border-b-0">
      <h2 className="mb-2 px-2 text-sm font-semibold">By {by}{counts && <span className="font-normal text-soft">, {count(counts.total)} records</span>}</h2>
      {found.error && <Alert>{found.error.message}</Alert>}
      {!counts && !found.error && <p className="text-sm text-soft">counting…</p>}
      <ul>
        {counts?.by.map(({ key, count: n }) => (
          <li key={key} className="group relative">
            <button
              className="w-full rounded px-2 py-1 text-left text-sm hover:bg-wash"
              title="only such records"
              onClick={() => onPick(key === missing ? `${by} missing` : `${by} is ${JSON.stringify(key)}`)}
            >
              <span className="flex items-baseline gap-2">
                <span className="min-w-0 flex-1 truncate" title={key}>{key || <em className="text-soft">empty</em>}</span>
                <span className="text-soft tabular-nums">{count(n)}</span>
              </span>
              <span className="mt-0.5 block h-1 rounded bg-amber" style={{ width: `${Math.max(1, (100 * n) / counts.by[0].count)}%` }} />
            </button>
            <button
              className="absolute right-1 bottom-1 rounded bg-sheet px-1 text-xs text-soft underline opacity-0 group-hover:opacity-100 hover:text-ink focus:opacity-100"
              aria-label={`leave out ${key}`}
              onClick={() => onPick(key === missing ? `${by} exists` : `not ${by} is ${JSON.stringify(key)}`)}
            >
              leave out
            </button>
          </li>
        ))}
      </ul>
      {!!counts?.others && <p className="px-2 pt-1 text-sm text-soft">{count(counts.others)} of other values</p>}
    </section>
  );
}
