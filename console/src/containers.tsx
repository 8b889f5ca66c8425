import { Fragment } from "react";
import type { Container } from "./api";
import { size } from "./size";
import { count } from "./time";
import { Table } from "./ui";

// rate writes records a minute.
const rate = (n: number) => (n === 0 ? "none" : n < 10 ? n.toFixed(1) : count(Math.round(n)));

// Containers shows what containers say, those that need attention first, with the remedy for each.
export function Containers({ containers }: { containers: Container[] }) {
  return (
    <Table columns={["container", "image", "stdout a minute", "stderr a minute", "kept as", "own files", "growth an hour"]}>
          {containers.map((c) => (
            <Fragment key={c.intake + c.id}>
              <tr className="border-t border-line align-baseline">
                <td className="py-1 pr-4">
                  <b className="font-semibold">{c.pod && `${c.pod}/`}{c.name}</b>
                  {!c.running && <span className="text-soft"> · ended</span>}
                </td>
                <td className="pr-4 font-mono text-xs">{c.image}</td>
                <td className="pr-4">{rate(c.stdout_per_minute)}</td>
                <td className="pr-4">{rate(c.stderr_per_minute)}</td>
                <td className="pr-4">{c.log_driver}</td>
                <td className="pr-4 whitespace-nowrap">{size(c.layer_bytes)}</td>
                <td className="pr-4 whitespace-nowrap">{c.layer_bytes_per_hour > 0 ? size(c.layer_bytes_per_hour) : "none"}</td>
              </tr>
              <tr>
                <td colSpan={7} className="pb-1">
                  <div className="sticky left-0 max-w-[min(65ch,calc(100vw-4rem))]">
                    {!c.read && <p className="text-soft">not read: {c.why}</p>}
                    {c.advice.map((a) => <p key={a.what}>▲ {a.what}<br /><span className="text-soft">{a.remedy}</span></p>)}
                    {c.growing.map((g) => <p key={g.path} className="text-soft"><span className="break-all font-mono text-xs">{g.path}</span> has grown by {size(g.grown)} to {size(g.bytes)}</p>)}
                  </div>
                </td>
              </tr>
            </Fragment>
          ))}
    </Table>
  );
}
