import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Bookmark } from "lucide-react";
import { Popover } from "radix-ui";
import { useState } from "react";
import { dropView, keepView, type View } from "./api";
import { keys, useMayOperate, useViews } from "./queries";
import { Alert, Button, control } from "./ui";

// Views offers the searches that were kept, and keeps the one that is shown.
export function Views({ shown, onPick }: { shown: Omit<View, "name">; onPick: (v: View) => void }) {
  const client = useQueryClient();
  const [open, setOpen] = useState(false);
  const [name, setName] = useState("");
  const [shared, setShared] = useState(false);
  const mayShare = useMayOperate();
  const views = useViews(open);
  const change = useMutation({ mutationFn: (to: () => Promise<View[]>) => to(), onSuccess: (all) => client.setQueryData(keys.views, all) });
  const problem = views.error ?? change.error;
  return (
    <Popover.Root open={open} onOpenChange={setOpen}>
      <Popover.Trigger className={`${control} flex items-center gap-1.5`}><Bookmark size={15} aria-hidden /> Views</Popover.Trigger>
      <Popover.Portal>
        <Popover.Content align="end" sideOffset={4} className="z-20 w-80 max-w-[92vw] rounded-lg border border-line bg-sheet p-3 shadow-xl">
          {views.data?.length === 0 && <p className="mb-2 text-sm text-soft">None is kept yet. A view is a search with a name.</p>}
          <ul className="mb-2 max-h-72 overflow-y-auto">
            {views.data?.map((v) => (
              <li key={`${v.name} ${v.shared}`} className="flex items-baseline gap-2">
                <button className="min-w-0 flex-1 rounded px-2 py-1 text-left hover:bg-wash" onClick={() => { onPick(v); setOpen(false); }}>
                  <span className="block font-semibold">{v.name}</span>
                  <span className="block truncate font-mono text-xs text-soft">{v.where || "everything"}{v.cask && ` · ${v.cask}`}{v.since && ` · ${v.since}`}{v.shared && ` · for all, by ${v.by}`}</span>
                </button>
                {(!v.shared || mayShare) && <Button look="link" aria-label={`drop the view ${v.name}`} onClick={() => change.mutate(() => dropView(v.name, !!v.shared))}>drop</Button>}
              </li>
            ))}
          </ul>
          <form className="flex gap-2 border-t border-line pt-3" onSubmit={(e) => { e.preventDefault(); change.mutate(() => keepView({ ...shown, name, shared })); setName(""); }}>
            <input required maxLength={64} aria-label="name of the view" placeholder="a name for this search" className={`${control} min-w-0 flex-1`} value={name} onChange={(e) => setName(e.target.value)} />
            <Button>Keep</Button>
          </form>
          {mayShare && <label className="mt-2 flex items-center gap-2 text-sm"><input type="checkbox" checked={shared} onChange={(e) => setShared(e.target.checked)} /> for all</label>}
          {problem && <Alert className="mt-2 text-sm">{problem.message}</Alert>}
        </Popover.Content>
      </Popover.Portal>
    </Popover.Root>
  );
}
