import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { get, invite, type Account, type Cask } from "./api";
import { clock } from "./time";

const control = "rounded border border-line bg-paper px-2 py-1 text-sm";

// Invite makes an invitation, with which a host gets a token of its own.
export function Invite() {
  const account = useQuery({ queryKey: ["session"], queryFn: () => get<Account>("/session") });
  const casks = useQuery({ queryKey: ["casks"], queryFn: ({ signal }) => get<Cask[]>("/casks", signal), enabled: account.data?.role === "admin" });
  const [cask, setCask] = useState("");
  const [label, setLabel] = useState("");
  const [copied, setCopied] = useState(false);
  const make = useMutation({ mutationFn: () => invite(cask, label), onSuccess: () => setCopied(false) });
  if (account.data?.role !== "admin") return null;
  const command = make.data && `oakbarrel accept ${make.data.text}`;
  return (
    <section className="mt-3 rounded-lg border border-line bg-sheet p-4">
      <h2 className="mb-2 text-lg font-semibold">Invite a host</h2>
      <form className="flex flex-wrap items-center gap-2" onSubmit={(e) => { e.preventDefault(); make.mutate(); }}>
        <label className="flex items-baseline gap-2"><span className="text-soft">to write into cask</span>
          <input required pattern="[A-Za-z0-9._\-]{1,64}" title="letters, digits and - _ ." list="casks" className={`${control} w-32`} value={cask} onChange={(e) => setCask(e.target.value)} /></label>
        <datalist id="casks">{casks.data?.map((c) => <option key={c.name} value={c.name} />)}</datalist>
        <label className="flex items-baseline gap-2"><span className="text-soft">known as</span>
          <input maxLength={128} placeholder="its own name" className={`${control} w-40`} value={label} onChange={(e) => setLabel(e.target.value)} /></label>
        <button className="rounded bg-amber px-3 py-1 text-sm font-semibold text-paper disabled:opacity-60" disabled={make.isPending}>Make an invitation</button>
      </form>
      <div aria-live="polite">
        {make.error && <p className="mt-2">{make.error.message}</p>}
        {make.data && (
          <div className="mt-3">
            <p className="mb-1">On the host, once, until {clock(new Date(make.data.ends))}:</p>
            <div className="flex items-start gap-2">
              <code className="min-w-0 flex-1 break-all rounded bg-wash px-2 py-1 font-mono text-xs">{command}</code>
              <button className={control} onClick={() => navigator.clipboard.writeText(command!).then(() => setCopied(true))}>{copied ? "copied" : "copy"}</button>
            </div>
            <p className="mt-1 text-sm text-soft">It is not shown again.</p>
          </div>
        )}
      </div>
    </section>
  );
}
