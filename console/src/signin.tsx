import { useQueryClient } from "@tanstack/react-query";
import { useState, type FormEvent } from "react";
import { signIn } from "./api";
import { Alert } from "./ui";

export function SignIn() {
  const client = useQueryClient();
  const [problem, setProblem] = useState("");
  const [busy, setBusy] = useState(false);
  async function submit(e: FormEvent<HTMLFormElement>) {
    e.preventDefault();
    const element = e.currentTarget;
    const form = new FormData(element);
    setBusy(true);
    setProblem("");
    try {
      client.setQueryData(["session"], await signIn(String(form.get("name")), String(form.get("password"))));
    } catch (error) {
      setProblem((error as Error).message);
      element.querySelector<HTMLInputElement>("[name=password]")?.select();
    } finally {
      setBusy(false);
    }
  }
  const field = "mt-1 w-full rounded border border-line bg-paper px-3 py-2 text-base";
  return (
    <main className="grid h-full place-items-center p-4">
      <form onSubmit={submit} className="w-full max-w-sm rounded-lg border border-line bg-sheet p-6">
        <h1 className="mb-1 text-xl font-semibold tracking-tight">Oak Barrel</h1>
        <p className="mb-5 text-soft">Sign in to read what the hosts say.</p>
        {/* eslint-disable-next-line jsx-a11y/no-autofocus -- there is nothing else on the page to begin with */}
        <label className="mb-3 block">Name<input name="name" autoFocus required autoComplete="username" className={field} /></label>
        <label className="mb-5 block">Password<input name="password" type="password" required autoComplete="current-password" className={field} /></label>
        {problem && <Alert className="mb-4">{problem}</Alert>}
        <button disabled={busy} className="w-full rounded bg-amber px-3 py-2 font-semibold text-paper disabled:opacity-60">{busy ? "Signing in…" : "Sign in"}</button>
        <p className="mt-4 text-sm text-soft">No account yet? On the service's machine: <code className="font-mono text-xs">oakbarrel account add NAME --role viewer --password-file FILE</code></p>
      </form>
    </main>
  );
}
