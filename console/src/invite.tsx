import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { invite } from "./api";
import { clock, day } from "./time";
import { useIsAdmin, useCasks } from "./queries";
import { Button, Card, Field } from "./ui";

// Invite makes an invitation, with which a host gets a token of its own.
export function Invite() {
  const isAdmin = useIsAdmin();
  const casks = useCasks(isAdmin);
  const [cask, setCask] = useState("");
  const [label, setLabel] = useState("");
  const [uses, setUses] = useState(1);
  const [copied, setCopied] = useState(false);
  const make = useMutation({ mutationFn: () => invite(cask, label, uses), onSuccess: () => setCopied(false) });
  if (!isAdmin) return null;
  const command = make.data && `oakbarrel accept ${make.data.text}`;
  return (
    <Card title="Invite a host" className="mt-3">
      <form className="flex flex-wrap items-center gap-2" onSubmit={(e) => { e.preventDefault(); make.mutate(); }}>
        <Field name="to write into cask" required pattern="[A-Za-z0-9._\-]{1,64}" title="letters, digits and - _ ." list="casks" className="w-32" value={cask} onChange={(e) => setCask(e.target.value)} />
        <datalist id="casks">{casks.data?.map((c) => <option key={c.name} value={c.name} />)}</datalist>
        <Field name="known as" maxLength={128} placeholder="its own name" className="w-40" value={label} onChange={(e) => setLabel(e.target.value)} />
        <Field name="for so many hosts" type="number" required min={1} max={10000} className="w-20" value={uses} onChange={(e) => setUses(e.target.valueAsNumber || 1)} />
        <Button disabled={make.isPending}>Make an invitation</Button>
      </form>
      <div aria-live="polite">
        {make.error && <p className="mt-2">{make.error.message}</p>}
        {make.data && (
          <div className="mt-3">
            <p className="mb-1">On {make.data.uses > 1 ? `${make.data.uses} hosts` : "the host, once"}, until {day(new Date(make.data.ends))} {clock(new Date(make.data.ends))}:</p>
            <div className="flex items-start gap-2">
              <code className="min-w-0 flex-1 break-all rounded bg-wash px-2 py-1 font-mono text-xs">{command}</code>
              <Button look="plain" onClick={() => navigator.clipboard.writeText(command!).then(() => setCopied(true))}>{copied ? "copied" : "copy"}</Button>
            </div>
            <p className="mt-1 text-sm text-soft">It is not shown again.</p>
          </div>
        )}
      </div>
    </Card>
  );
}
