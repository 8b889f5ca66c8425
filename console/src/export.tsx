import { useRef, useState } from "react";
import { stream } from "./api";
import { count } from "./time";
import { Alert, Button, control } from "./ui";

const forms: [string, string][] = [["json", "JSON lines"], ["csv", "CSV"], ["rfc5424", "syslog, RFC 5424"]];
const most = 2_000_000; // records that this page saves; more the browser does by itself, as it comes

// Export saves all that meets the search as a file, not only what is shown, and tells how far it is.
export function Export({ query, total }: { query: URLSearchParams; total?: number }) {
  const [saved, setSaved] = useState<number | null>(null);
  const [problem, setProblem] = useState("");
  const ending = useRef<AbortController>(null);
  const save = async (form: string) => {
    const path = `/export?as=${form}&${query}`;
    setProblem("");
    if (total === undefined || total > most) return window.location.assign(`/api/v1${path}`);
    const stop = (ending.current = new AbortController());
    setSaved(0);
    try {
      const { name, parts } = await collect(path, stop.signal, setSaved);
      const link = document.createElement("a");
      link.href = URL.createObjectURL(new Blob(parts));
      link.download = name;
      link.click();
      setTimeout(() => URL.revokeObjectURL(link.href), 60e3);
    } catch (e) {
      if (!stop.signal.aborted) setProblem(`Nothing was saved: ${e instanceof Error && e.message ? e.message : "it broke off"}`);
    }
    setSaved(null);
  };
  if (saved !== null) {
    const share = total ? Math.min(1, saved / total) : 0;
    return (
      <span className="flex items-center gap-2 text-sm">
        <span role="progressbar" aria-label="saved" aria-valuemin={0} aria-valuemax={total} aria-valuenow={Math.min(saved, total ?? saved)} className="block h-2 w-28 overflow-hidden rounded border border-line bg-paper"><span className="block h-full bg-amber" style={{ width: `${share * 100}%` }} /></span>
        <span className="tabular-nums text-soft">{count(saved)}</span>
        <Button look="link" onClick={() => ending.current?.abort()}>stop</Button>
      </span>
    );
  }
  return (
    <>
      <select aria-label="save all as" className={control} value="" onChange={(e) => save(e.target.value)}>
        <option value="">save as…</option>
        {forms.map(([form, name]) => <option key={form} value={form}>{name}</option>)}
      </select>
      {problem && <Alert className="w-full">{problem}</Alert>}
    </>
  );
}

// collect reads a file as it comes, and tells how many lines it has so far.
async function collect(path: string, signal: AbortSignal, onLines: (n: number) => void) {
  const response = await stream(path, signal);
  const name = /filename="?([^";]+)/.exec(response.headers.get("Content-Disposition") ?? "")?.[1] ?? "records";
  const parts: Uint8Array<ArrayBuffer>[] = [];
  let lines = 0, told = 0;
  for (const reader = response.body!.getReader(); ; ) {
    const { done, value } = await reader.read();
    if (done) return { name, parts };
    parts.push(value);
    for (let at = value.indexOf(10); at >= 0; at = value.indexOf(10, at + 1)) lines++;
    if (performance.now() - told > 100) {
      told = performance.now();
      onLines(lines);
    }
  }
}
