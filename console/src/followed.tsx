import { useState } from "react";
import type { FollowedFile } from "./api";
import { size } from "./size";
import { count } from "./time";
import { Button, Table } from "./ui";

const fewFiles = 8;

// late writes how long something stands in a file that is not read.
function late(seconds: number): string {
  if (seconds < 1) return `${Math.round(seconds * 1000)} ms`;
  return seconds < 120 ? `${Math.round(seconds)} s` : `${count(Math.round(seconds / 60))} min`;
}

// Followed shows how far the files are read that programs write, the furthest behind first.
export function Followed({ files }: { files: FollowedFile[] }) {
  const [more, setMore] = useState(false);
  const shown = more ? files : files.slice(0, fewFiles);
  return (
    <div>
      <Table columns={["file", "intake", "size", "read", "behind"]}>
          {shown.map((f) => (
            <tr key={f.intake + f.file} className="border-t border-line align-baseline">
              <td className="min-w-64 py-1 pr-4 font-mono text-xs [overflow-wrap:anywhere]">{f.file}</td>
              <td className="pr-4">{f.intake}</td>
              <td className="pr-4 whitespace-nowrap" title={`${count(f.size)} bytes`}>{f.size > 0 && size(f.size)}</td>
              {f.state === "not read" ? (
                <td className="pr-4" colSpan={2}><span className="text-soft">not read:</span> {f.why}</td>
              ) : (
                <>
                  <td className="pr-4 whitespace-nowrap"><Bar file={f} /></td>
                  <td className="pr-4">
                    {f.behind > 0 ? <>▲ {size(f.behind)}, {late(f.behind_seconds)}</> : <span className="text-soft">{f.state === "finished" ? "finished" : f.why || "at its end"}</span>}
                    {f.cuts > 0 && <span className="text-soft" title={`Lines written within ${late(f.cut_seconds)} before a cut may be lost`}>, cut {count(f.cuts)} {f.cuts === 1 ? "time" : "times"}</span>}
                  </td>
                </>
              )}
            </tr>
          ))}
      </Table>
      {files.length > shown.length && <Button look="link" className="mt-2" onClick={() => setMore(true)}>{`all ${count(files.length)} files`}</Button>}
    </div>
  );
}

// Bar draws how much of a file is read.
function Bar({ file: f }: { file: FollowedFile }) {
  const part = f.behind === 0 ? 100 : Math.floor((100 * f.read) / Math.max(1, f.size));
  return (
    <span className="inline-flex items-center gap-2">
      <span className="inline-block h-2 w-16 rounded border border-line bg-paper" role="img" aria-label={`${part} percent`}><span className="block h-full rounded bg-amber" style={{ width: `${part}%` }} /></span>
      <span className="text-soft">{part} %</span>
    </span>
  );
}
