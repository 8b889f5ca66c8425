import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { putAlert, putReceiver, removeAlert, removeReceiver, tryReceiver, type Receiver, type StoredAlert } from "./api";
import { keys, useAlerts, useIsAdmin, useMayOperate, useReceivers } from "./queries";
import { ago } from "./time";
import { Alert, Button, Card, control, Field, onWide, Sure, Table } from "./ui";

const cell = "border-t border-line py-1 pr-4 align-baseline [overflow-wrap:anywhere]";

// Alerts shows what the store keeps asking, and whom it tells.
export default function Alerts() {
  const may = useMayOperate();
  const alerts = useAlerts();
  const client = useQueryClient();
  const change = useMutation({
    mutationFn: (do_: () => Promise<unknown>) => do_(),
    onSettled: () => client.invalidateQueries({ queryKey: keys.alerts }),
  });
  const problem = alerts.error ?? change.error;
  return (
    <div className="h-full overflow-auto p-3 sm:p-5">
      <h1 className="sr-only">Alerts</h1>
      <Card title="What the store keeps asking">
        {problem && <Alert className="mb-2">{problem.message}</Alert>}
        {may && <p className="mb-2"><Link className="rounded bg-amber px-3 py-1 text-sm font-semibold text-paper" to="/alerts/new">New alert</Link></p>}
        {alerts.data?.length === 0 && <p className="text-soft">Nothing yet: more errors than usual, a host that is silent, a kind of message that was never there. Before an alert is kept, it is shown when it would have told you in the last weeks.</p>}
        {!!alerts.data?.length && (
          <Table columns={["alert", "now", "told", "tells", "asks", ""]} wide={["told", "tells"]} label="alerts">
            {alerts.data.map((v) => (
              <tr key={v.name}>
                <td className={cell}><Link className="font-semibold hover:underline" to={`/alerts/${v.name}`}>{v.name}</Link></td>
                <td className={cell}><Now alert={v} /></td>
                <td className={`${cell} text-soft ${onWide}`}>{ago(v.told)}</td>
                <td className={`${cell} ${onWide}`}>{v.tell.join(", ") || <span className="text-soft">nobody</span>}</td>
                <td className={`${cell} sm:min-w-64`}>{v.asks}{v.cask && <span className="text-soft">, in {v.cask}</span>}</td>
                <td className={cell}>
                  {may && (
                    <span className="inline-flex flex-wrap gap-x-3">
                      <Button look="link" aria-label={`${v.off ? "on" : "off"}, ${v.name}`} onClick={() => change.mutate(() => putAlert(v.name, { text: v.text, base: v.number, off: !v.off }))}>{v.off ? "on" : "off"}</Button>
                      <Sure what="remove" label={v.name} onSure={() => change.mutate(() => removeAlert(v.name))} />
                    </span>
                  )}
                </td>
              </tr>
            ))}
          </Table>
        )}
      </Card>
      {may && <Receivers />}
    </div>
  );
}

// Now tells how an alert is.
function Now({ alert: v }: { alert: StoredAlert }) {
  if (v.trouble) return <span role="alert">▲ {v.trouble}</span>;
  if (v.off) return <span className="text-soft">off</span>;
  if (v.holds > 0) return <Link className="font-semibold text-amber underline" to={`/notices/${v.notice}`}>▲ it is so</Link>;
  if (v.notice > 0) return <Link className="underline" to={`/notices/${v.notice}`}>△ was so</Link>;
  return <span className="text-soft">quiet</span>;
}

function Receivers() {
  const isAdmin = useIsAdmin();
  const receivers = useReceivers(true);
  const client = useQueryClient();
  const [said, setSaid] = useState("");
  const remove = useMutation({ mutationFn: removeReceiver, onSettled: () => client.invalidateQueries({ queryKey: keys.receivers }) });
  const test = useMutation({ mutationFn: tryReceiver, onSuccess: (_, name) => setSaid(`${name} has taken a test.`), onError: (e, name) => setSaid(`${name}: ${e.message}`) });
  const problem = receivers.error ?? remove.error;
  return (
    <Card title="Whom alerts can tell" className="mt-3">
      {problem && <Alert className="mb-2">{problem.message}</Alert>}
      {receivers.data?.length === 0 && <p className="text-soft">Nobody yet: what alerts find stands in <Link className="underline" to="/notices">Notices</Link> and on <Link className="underline" to="/">Today</Link>.{!isAdmin && " An admin can add a webhook, a push topic or mail."}</p>}
      {!!receivers.data?.length && (
        <Table columns={["receiver", "gets", "of alerts", ""]} label="receivers">
          {receivers.data.map((r) => (
            <tr key={r.name}>
              <td className={`${cell} font-semibold`}>{r.name}</td>
              <td className={cell}>{r.to}{r.trouble && <span role="alert" className="block">▲ {r.trouble}</span>}</td>
              <td className={cell}>{r.alerts.join(", ")}</td>
              <td className={cell}>
                {isAdmin && (
                  <span className="inline-flex flex-wrap gap-x-3">
                    <Button look="link" aria-label={`send ${r.name} a test`} disabled={test.isPending} onClick={() => test.mutate(r.name)}>send a test</Button>
                    <Sure what="remove" label={r.name} onSure={() => remove.mutate(r.name)} />
                  </span>
                )}
              </td>
            </tr>
          ))}
        </Table>
      )}
      <p aria-live="polite" className="mt-1 text-sm">{said}</p>
      {isAdmin && <NewReceiver />}
    </Card>
  );
}

const kinds: [Receiver["kind"], string][] = [["webhook", "a webhook"], ["push", "a push topic"], ["mail", "mail"]];

function NewReceiver() {
  const client = useQueryClient();
  const [kind, setKind] = useState("webhook");
  const add = useMutation({
    mutationFn: ({ name, of }: { name: string; of: Parameters<typeof putReceiver>[1] }) => putReceiver(name, of),
    onSettled: () => client.invalidateQueries({ queryKey: keys.receivers }),
  });
  const send = (form: HTMLFormElement) => {
    const of = new FormData(form);
    const text = (name: string) => String(of.get(name) ?? "").trim() || undefined;
    const to = text("to")?.split(/[\s,]+/);
    add.mutate({ name: text("name") ?? "", of: { kind: kind as "mail", address: text("address"), token: text("token"), body: text("body"), server: text("server"), from: text("from"), to, user: text("user"), password: text("password") } }, { onSuccess: () => form.reset() });
  };
  return (
    <details className="mt-2">
      <summary className="cursor-pointer text-sm text-soft">Add a receiver</summary>
      <form className="mt-2 flex flex-wrap items-center gap-3 text-sm" onSubmit={(e) => { e.preventDefault(); send(e.currentTarget); }}>
        <Field name="name" required pattern="[A-Za-z0-9_\-][A-Za-z0-9._\-]{0,63}" className="w-32" field="name" />
        <select aria-label="kind" className={control} value={kind} onChange={(e) => setKind(e.target.value)}>{kinds.map(([k, name]) => <option key={k} value={k}>{name}</option>)}</select>
        {kind === "mail" ? (
          <>
            <Field name="server" field="server" required placeholder="mail.lantern.example:587" />
            <Field name="from" field="from" required type="email" />
            <Field name="to" field="to" required placeholder="duty@lantern.example" />
            <Field name="user" field="user" autoComplete="off" className="w-28" />
            <Field name="password" field="password" type="password" autoComplete="new-password" className="w-28" />
          </>
        ) : (
          <>
            <Field name="address" field="address" required type="url" placeholder="https://" className="w-72" />
            <Field name="token" field="token" type="password" autoComplete="new-password" className="w-32" />
            {kind === "webhook" && <Field name="body" field="body" placeholder={'{"text": "{title}"}'} className="w-56 font-mono" />}
          </>
        )}
        <Button disabled={add.isPending}>Add it</Button>
      </form>
      <p aria-live="polite" className="mt-1 text-sm">{add.error?.message ?? (add.isSuccess ? "It is added. Its secrets are not shown again." : "")}</p>
    </details>
  );
}
