import { useQueryClient } from "@tanstack/react-query";
import { LogOut } from "lucide-react";
import { Dialog } from "radix-ui";
import { useEffect, useState } from "react";
import { NavLink, Outlet, useLocation } from "react-router";
import { signOut, type Account } from "./api";
import { inField } from "./keys";
import { offset } from "./time";
import { Boundary } from "./ui";

const keys: [string, string][] = [
  ["/", "go to the query line"],
  ["j, k", "next and previous record"],
  ["Enter", "open the record"],
  ["Esc", "close it"],
  ["⇧ ← →", "in the histogram, select a span; Enter shows it"],
  ["?", "show this list"],
];


export function Shell({ account }: { account: Account }) {
  const client = useQueryClient();
  const place = useLocation();
  const [help, setHelp] = useState(false);
  useEffect(() => {
    const press = (e: KeyboardEvent) => {
      if (e.key === "?" && !inField(e)) setHelp(true);
    };
    window.addEventListener("keydown", press);
    return () => window.removeEventListener("keydown", press);
  }, []);
  const link = ({ isActive }: { isActive: boolean }) => `rounded px-1.5 py-1.5 text-sm sm:px-3 sm:text-base ${isActive ? "bg-wash text-amber font-semibold" : "text-soft hover:text-ink"}`;
  return (
    <div className="flex h-full flex-col">
      <header className="flex flex-wrap items-center gap-x-2 border-b border-line bg-sheet px-3 py-1.5 sm:px-5">
        <span className="mr-2 text-lg font-semibold tracking-tight">Oak Barrel</span>
        <nav className="order-last flex w-full justify-between overflow-x-auto sm:order-none sm:w-auto sm:justify-start sm:gap-1">
          <NavLink to="/" end className={link}>Today</NavLink>
          <NavLink to="/hosts" className={link}>Hosts</NavLink>
          <NavLink to="/plans" className={link}>Plans</NavLink>
          <NavLink to="/fleet" className={link}>Fleet</NavLink>
          <NavLink to="/logs" className={link}>Logs</NavLink>
          <NavLink to="/shapes" className={link}>Shapes</NavLink>
          <NavLink to="/casks" className={link}>Casks</NavLink>
          <NavLink to="/alerts" className={link}>Alerts</NavLink>
          <NavLink to="/notices" className={link}>Notices</NavLink>
          <NavLink to="/access" className={link}>Access</NavLink>
        </nav>
        <span className="ml-auto hidden text-sm text-soft sm:inline">times at {offset(new Date())}</span>
        <button className="ml-auto rounded px-2 py-1 text-sm text-soft hover:text-ink sm:ml-0" onClick={() => setHelp(true)} aria-label="show the keys">?</button>
        <button className="flex items-center gap-1.5 rounded px-2 py-1 text-sm text-soft hover:text-ink" onClick={() => signOut().finally(() => client.resetQueries())}>
          <LogOut size={15} aria-hidden /> {account.name}
        </button>
      </header>
      <main className="min-h-0 flex-1"><Boundary key={place.pathname} what="This page"><Outlet /></Boundary></main>
      <Dialog.Root open={help} onOpenChange={setHelp}>
        <Dialog.Portal>
          <Dialog.Overlay className="fixed inset-0 bg-black/40" />
          <Dialog.Content aria-describedby={undefined} className="fixed left-1/2 top-1/3 w-80 -translate-x-1/2 -translate-y-1/3 rounded-lg border border-line bg-sheet p-5 shadow-xl">
            <Dialog.Title className="mb-3 text-lg font-semibold">Keys</Dialog.Title>
            <dl className="grid grid-cols-[5rem_1fr] gap-y-2">
              {keys.map(([key, what]) => (
                <div key={key} className="contents"><dt className="font-mono text-sm text-amber">{key}</dt><dd>{what}</dd></div>
              ))}
            </dl>
          </Dialog.Content>
        </Dialog.Portal>
      </Dialog.Root>
    </div>
  );
}
