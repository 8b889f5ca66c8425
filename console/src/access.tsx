import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { adopt, removeAccount, revokeToken, setAccount, setPassword, type Act, type GivenAccount, type GivenToken, type Joining, type SentInvitation } from "./api";
import { keys, useAccounts, useAudit, useInvitations, useIsAdmin, useJoinings, useTokens } from "./queries";
import { ago, clock, day } from "./time";
import { Alert, Button, Card, control, Field, Sure, Table } from "./ui";

const roles: GivenAccount["role"][] = ["viewer", "operator", "admin"];
const cell = "border-t border-line py-1 pr-4 align-baseline [overflow-wrap:anywhere]";

// Access shows who may do what, and lets an admin change it; anybody changes the own password.
export default function Access() {
  const isAdmin = useIsAdmin();
  return (
    <div className="h-full space-y-3 overflow-auto p-3 sm:p-5">
      <h1 className="text-xl font-semibold">Access</h1>
      <OwnPassword />
      {isAdmin && <Accounts />}
      {isAdmin && <Tokens />}
      {isAdmin && <Waiting />}
      {isAdmin && <Invitations />}
      {isAdmin && <Audit />}
    </div>
  );
}

function OwnPassword() {
  const [old, setOld] = useState("");
  const [next, setNext] = useState("");
  const change = useMutation({
    mutationFn: () => setPassword(old, next),
    onSuccess: () => {
      setOld("");
      setNext("");
    },
  });
  return (
    <Card title="Your password">
      <form className="flex flex-wrap items-center gap-3" onSubmit={(e) => { e.preventDefault(); change.mutate(); }}>
        <Field name="now" type="password" required autoComplete="current-password" className="w-40" value={old} onChange={(e) => setOld(e.target.value)} />
        <Field name="from now on" type="password" required minLength={8} maxLength={72} autoComplete="new-password" className="w-40" value={next} onChange={(e) => setNext(e.target.value)} />
        <Button disabled={change.isPending}>Change it</Button>
      </form>
      <p aria-live="polite" className="mt-2 text-sm">{change.error?.message ?? (change.isSuccess ? "It is changed; your other sign-ins have ended." : "")}</p>
    </Card>
  );
}

// useChange does something and has the list that shows it asked for again.
function useChange<T>(list: string[], change: (what: T) => Promise<unknown>) {
  const client = useQueryClient();
  return useMutation({
    mutationFn: change,
    onSettled: () => {
      client.invalidateQueries({ queryKey: list });
      client.invalidateQueries({ queryKey: keys.audit });
    },
  });
}

function Accounts() {
  const accounts = useAccounts();
  const set = useChange<GivenAccount>(keys.accounts, (a) => setAccount(a.name, a.role));
  const remove = useChange(keys.accounts, removeAccount);
  const problem = accounts.error ?? set.error ?? remove.error;
  return (
    <Card title="Accounts">
      {problem && <Alert className="mb-2">{problem.message}</Alert>}
      <Table columns={["name", "role", "made", "signed in", ""]}>
        {accounts.data?.map((a) => (
          <tr key={a.name}>
            <td className={`${cell} font-semibold`}>{a.name}</td>
            <td className={cell}>
              <select aria-label={`role of ${a.name}`} className={control} value={a.role} onChange={(e) => set.mutate({ ...a, role: e.target.value as GivenAccount["role"] })}>{roles.map((r) => <option key={r}>{r}</option>)}</select>
            </td>
            <td className={cell}>{day(new Date(a.created))}</td>
            <td className={cell}>{a.sessions === 0 ? <span className="text-soft">no</span> : a.sessions === 1 ? "once" : `${a.sessions} times`}</td>
            <td className={cell}><Sure what="remove" label={a.name} onSure={() => remove.mutate(a.name)} /></td>
          </tr>
        ))}
      </Table>
      <p className="mt-2 text-sm text-soft">A role holds from the next request on. Another one is made where the database is: <code className="font-mono">oakbarrel account add NAME --role viewer --password-file FILE</code></p>
    </Card>
  );
}

function Tokens() {
  const tokens = useTokens();
  const revoke = useChange(keys.tokens, revokeToken);
  const problem = tokens.error ?? revoke.error;
  return (
    <Card title="Tokens">
      {problem && <Alert className="mb-2">{problem.message}</Alert>}
      <Table columns={["id", "may", "cask", "label", "only for", "made", "last used", ""]}>
        {tokens.data?.map((t: GivenToken) => (
          <tr key={t.id}>
            <td className={cell}>{t.id}</td>
            <td className={cell}>{t.may}</td>
            <td className={cell}>{t.cask === "*" ? "every one" : t.cask}</td>
            <td className={cell}>{t.label}</td>
            <td className={cell}>{t.agent_id ? <>{t.host || "agent"} <span className="font-mono text-xs text-soft">{t.agent_id.slice(0, 8)}</span></> : <span className="text-soft">{t.may === "write" ? "the first agent that brings it" : "any program"}</span>}</td>
            <td className={cell}>{day(new Date(t.created))}</td>
            <td className={cell}>{t.used ? ago(t.used) : <span className="text-soft">never</span>}</td>
            <td className={cell}><Sure what="revoke" label={`token ${t.id}`} onSure={() => revoke.mutate(t.id)} /></td>
          </tr>
        ))}
      </Table>
      <p className="mt-2 text-sm text-soft">Whoever brings a token that is revoked is refused from the next request on. An agent holds what it has until it gets another one.</p>
    </Card>
  );
}

// Waiting shows the agents that bring the token of another one, and lets them in.
function Waiting() {
  const waiting = useJoinings();
  const letIn = useChange(keys.joinings, adopt);
  const problem = waiting.error ?? letIn.error;
  if (!problem && !waiting.data?.length) return null;
  return (
    <Card title="Hosts that wait to be let in">
      {problem && <Alert className="mb-2">{problem.message}</Alert>}
      <Table columns={["agent", "says it is", "brings the token of", "since", ""]}>
        {waiting.data?.map((j: Joining) => (
          <tr key={j.agent_id}>
            <td className={`${cell} font-mono text-xs`}>{j.agent_id}</td>
            <td className={cell}>{j.host}</td>
            <td className={cell}>{j.sender} <span className="font-mono text-xs text-soft">{j.was.slice(0, 8)}</span></td>
            <td className={cell}>{ago(j.since)}</td>
            <td className={cell}><Sure what="let in" label={`agent ${j.agent_id}`} onSure={() => letIn.mutate(j.agent_id)} /></td>
          </tr>
        ))}
      </Table>
      <p className="mt-2 text-sm text-soft">A copy of a machine, or of a state folder, becomes another agent by itself, and holds what it has until it is let in. Whoever has stolen a token can ask, too: let in what you know.</p>
    </Card>
  );
}

function Invitations() {
  const invitations = useInvitations();
  return (
    <Card title="Invitations">
      {invitations.error && <Alert className="mb-2">{invitations.error.message}</Alert>}
      {invitations.data?.length === 0 && <p className="text-soft">None was made yet. The page Hosts makes one.</p>}
      {!!invitations.data?.length && (
        <Table columns={["cask", "known as", "made by", "good until", "what became of it"]}>
          {invitations.data.map((i: SentInvitation) => (
            <tr key={i.by + i.ends + i.label}>
              <td className={cell}>{i.cask}</td>
              <td className={cell}>{i.label || <span className="text-soft">its own name</span>}</td>
              <td className={cell}>{i.by}</td>
              <td className={cell}>{day(new Date(i.ends))} {clock(new Date(i.ends))}</td>
              <td className={cell}>{i.used ? <>used {i.uses > 1 ? `${i.times} of ${i.uses} times, last ` : ""}{ago(i.used)} by agent <span className="font-mono text-xs">{i.agent_id.slice(0, 8)}</span></> : new Date(i.ends) < new Date() ? <span className="text-soft">not used, over</span> : i.uses > 1 ? `waits for ${i.uses} hosts` : "waits"}</td>
            </tr>
          ))}
        </Table>
      )}
    </Card>
  );
}

function Audit() {
  const audit = useAudit();
  return (
    <Card title="Who did or read what">
      {audit.error && <Alert className="mb-2">{audit.error.message}</Alert>}
      <Table columns={["when", "who", "what", ""]}>
        {audit.data?.map((a: Act) => (
          <tr key={a.id}>
            <td className={`${cell} whitespace-nowrap`} title={a.at}>{ago(a.at)}</td>
            <td className={cell}>{a.by}</td>
            <td className={cell}>{a.what}</td>
            <td className={`${cell} text-soft`}>{a.detail}</td>
          </tr>
        ))}
      </Table>
      <p className="mt-2 text-sm text-soft">The newest 100; <code className="font-mono">oakbarrel audit</code> tells more.</p>
    </Card>
  );
}
