import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";
import { Link, useNavigate, useParams, useSearchParams } from "react-router";
import { putAlert, tryAlert, type StoredAlert } from "./api";
import { asText, begun, type Form, units } from "./alerttext";
import { QueryLine } from "./query";
import { keys, useAlerts, useCasks, useMayOperate, useReceivers } from "./queries";
import { clock, count, day } from "./time";
import { Alert, Button, Card, control, Missing } from "./ui";

const days = 14; // of the past in which an alert is tried
const rest = 500; // milliseconds without a key until it is

// AlertPage makes an alert or changes one, beside when it would have told somebody.
export default function AlertPage() {
  const { name = "" } = useParams();
  const alerts = useAlerts();
  if (name === "new") return <NewAlert />;
  if (alerts.error) return <Alert className="m-6">{alerts.error.message}</Alert>;
  if (!alerts.data) return null;
  const found = alerts.data.find((a) => a.name === name);
  if (!found) return <Alert className="m-6">There is no alert of that name; the page Alerts lists those that there are.</Alert>;
  return <ChangeAlert key={name} alert={found} />;
}

function NewAlert() {
  const [asked] = useSearchParams(); // q, cask and kind are what it begins with
  const [form, setForm] = useState<Form>(() => begun(asked.get("kind"), asked.get("q") ?? "", asked.get("cask") ?? ""));
  const [own, setOwn] = useState<string | null>(null); // the text, once it is written by hand
  const text = own ?? asText(form);
  const change = (to: Partial<Form>) => setForm((f) => ({ ...f, ...to }));
  return (
    <Page title="New alert" name={form.name} text={text} base={0} onText={setOwn}>
      <label className="flex flex-wrap items-baseline gap-2">
        <span className="w-24 text-soft">name</span>
        <input aria-label="name" required pattern="[A-Za-z0-9_\-][A-Za-z0-9._\-]{0,63}" placeholder="stalls" className={`${control} w-56`} value={form.name} onChange={(e) => change({ name: e.target.value })} />
      </label>
      {own === null && <AlertForm form={form} onChange={change} />}
      {own !== null && <p className="text-soft">The text is written by hand. <Button look="link" type="button" onClick={() => setOwn(null)}>back to the form</Button></p>}
    </Page>
  );
}

function ChangeAlert({ alert: v }: { alert: StoredAlert }) {
  const [text, setText] = useState(v.text);
  return <Page title={`Alert ${v.name}`} name={v.name} text={text} base={v.number} off={v.off} onText={setText} />;
}

// Page shows the text of an alert, tries it on the past, and keeps it.
function Page({ title, name, text, base, off, onText, children }: { title: string; name: string; text: string; base: number; off?: boolean; onText: (text: string) => void; children?: React.ReactNode }) {
  const may = useMayOperate();
  const client = useQueryClient();
  const go = useNavigate();
  const known = useRef(base); // the number that it was made from
  const keep = useMutation({
    mutationFn: () => putAlert(name, { text, base: known.current, off }),
    onSuccess: () => {
      client.invalidateQueries({ queryKey: keys.alerts });
      go("/alerts");
    },
  });
  return (
    <div className="h-full overflow-auto p-3 sm:p-5">
      <h1 className="mb-3 text-xl font-semibold">{title}</h1>
      <div className="grid gap-3 lg:grid-cols-2">
        <Card title="What it asks">
          <form className="space-y-3 text-sm" onSubmit={(e) => { e.preventDefault(); keep.mutate(); }}>
            {children}
            <details open={!children}>
              <summary className="cursor-pointer text-soft">as text, for git</summary>
              <textarea aria-label="the alert as text" spellCheck={false} rows={Math.max(8, text.split("\n").length + 1)} className={`${control} mt-2 w-full font-mono`} value={text} readOnly={!may} onChange={(e) => onText(e.target.value)} />
            </details>
            {keep.error && <Alert>{keep.error.message}</Alert>}
            {may && <Button disabled={keep.isPending || !name}>{base ? "Change it" : "Keep it"}</Button>}
          </form>
        </Card>
        <Card title="When it would have told you"><Tried name={name || "new"} text={text} /></Card>
      </div>
    </div>
  );
}

// Tried tells when an alert would have told somebody, a moment after the last change.
function Tried({ name, text }: { name: string; text: string }) {
  const [settled, setSettled] = useState(text);
  useEffect(() => {
    const timer = setTimeout(() => setSettled(text), rest);
    return () => clearTimeout(timer);
  }, [text]);
  const tried = useQuery({ queryKey: keys.tried("", settled), queryFn: ({ signal }) => tryAlert("new", settled, days, signal), staleTime: 60e3, retry: false });
  const t = tried.data;
  if (tried.error) return <Alert>{tried.error.message}</Alert>;
  if (!t || tried.isFetching || settled !== text) return <p className="text-soft">looking at the last {days} days…</p>;
  if (!t.asks) return <ul>{t.findings.map((f, i) => <li key={i} className="[overflow-wrap:anywhere]"><span className="text-soft">line {f.line}, column {f.column}:</span> {f.what}; {f.mend}</li>)}</ul>;
  return (
    <>
      <p className="[overflow-wrap:anywhere]">{t.asks}</p>
      <p className="mt-2" aria-live="polite">Since {day(new Date(t.from))} it would have told you <b className="font-semibold">{t.times === 1 ? "once" : t.times ? `${count(t.times)} times` : "never"}</b>.</p>
      <Missing shelves={t.missing} />
      <ul className="mt-2 text-sm" aria-label={`when ${name} would have told`}>
        {t.told.map((w, i) => (
          <li key={i} className="flex flex-wrap gap-x-3 border-t border-line py-1">
            <span className="whitespace-nowrap text-soft tabular-nums">{day(new Date(w.at))} {clock(new Date(w.at))}</span>
            <span className="min-w-0 flex-1 [overflow-wrap:anywhere]">{w.line}{w.count > 1 && ` (and ${count(w.count - 1)} more)`}</span>
          </li>
        ))}
      </ul>
    </>
  );
}

const kinds: [Form["kind"], string][] = [
  ["more", "more records than so many"], ["fewer", "fewer records than so many"], ["new_shape", "a kind of message that was never there"],
  ["silent", "silence where there was none"], ["share", "too large a share"], ["value", "a value of a field over a bound"],
];
const bys = ["", "host", "app", "agent", "intake", "unit"];

// AlertForm asks for what an alert says.
function AlertForm({ form: f, onChange }: { form: Form; onChange: (to: Partial<Form>) => void }) {
  const casks = useCasks();
  const receivers = useReceivers(useMayOperate());
  const line = useRef<HTMLInputElement>(null);
  const text = (label: string, of: "than" | "value" | "field" | "share" | "least", size: string, type = "number") => <input aria-label={label} required type={type} step="any" className={`${control} ${size}`} value={f[of]} onChange={(e) => onChange({ [of]: e.target.value })} />;
  const span = (
    <>
      <input aria-label="how long" required type="number" min={1} className={`${control} w-20`} value={f.span} onChange={(e) => onChange({ span: e.target.value })} />
      <select aria-label="unit of time" className={control} value={f.unit} onChange={(e) => onChange({ unit: e.target.value as Form["unit"] })}>{Object.entries(units).map(([u, name]) => <option key={u} value={u}>{name}</option>)}</select>
    </>
  );
  return (
    <>
      <Row name="tell me of">
        <select aria-label="kind" className={control} value={f.kind} onChange={(e) => onChange({ kind: e.target.value as Form["kind"] })}>{kinds.map(([k, name]) => <option key={k} value={k}>{name}</option>)}</select>
        {(f.kind === "more" || f.kind === "fewer") && <>{f.kind === "more" ? "more" : "fewer"} than {text("how many", "than", "w-24")} within {span}</>}
        {f.kind === "silent" && <>for {span}</>}
        {f.kind === "share" && <>more than {text("percent", "share", "w-20")} % within {span}, of at least {text("at least", "least", "w-20")}</>}
        {f.kind === "value" && <>{text("field", "field", "w-40", "text")} <select aria-label="side" className={control} value={f.side} onChange={(e) => onChange({ side: e.target.value as Form["side"] })}><option>over</option><option>under</option></select> {text("bound", "value", "w-24")}</>}
      </Row>
      {f.kind === "share" && <Row name="are"><QueryLine value={f.of} inputRef={line} onRun={(of) => onChange({ of })} onText={(of) => onChange({ of })} /></Row>}
      <Row name="where"><QueryLine value={f.when} inputRef={line} onRun={(when) => onChange({ when })} onText={(when) => onChange({ when })} /></Row>
      <Row name="in">
        <select aria-label="cask" className={control} value={f.cask} onChange={(e) => onChange({ cask: e.target.value })}>
          <option value="">every cask</option>
          {casks.data?.map((c) => <option key={c.name}>{c.name}</option>)}
        </select>
        {f.kind !== "new_shape" && <select aria-label="by" className={control} value={f.by} onChange={(e) => onChange({ by: e.target.value })}>{bys.map((b) => <option key={b} value={b}>{b ? `each ${b} by itself` : "all together"}</option>)}</select>}
      </Row>
      {!!receivers.data?.length && (
        <Row name="tell">
          {receivers.data.map((r) => (
            <label key={r.name} className="inline-flex items-baseline gap-1" title={r.to}>
              <input type="checkbox" checked={f.tell.includes(r.name)} onChange={(e) => onChange({ tell: e.target.checked ? [...f.tell, r.name] : f.tell.filter((t) => t !== r.name) })} /> {r.name}
            </label>
          ))}
        </Row>
      )}
      <Row name="not">
        <label className="inline-flex items-baseline gap-1"><input type="checkbox" checked={f.nights} onChange={(e) => onChange({ nights: e.target.checked })} /> from 22:00 to 06:00</label>
        <label className="inline-flex items-baseline gap-1"><input type="checkbox" checked={f.weekends} onChange={(e) => onChange({ weekends: e.target.checked })} /> on Saturdays and Sundays</label>
      </Row>
      <Row name="note"><input aria-label="note" maxLength={1000} placeholder="what to do first" className={`${control} min-w-0 flex-1`} value={f.note} onChange={(e) => onChange({ note: e.target.value })} /></Row>
      {receivers.data?.length === 0 && <p className="text-soft">Nobody can be told yet; what it finds stands in <Link className="underline" to="/notices">Notices</Link> and on Today.</p>}
    </>
  );
}

function Row({ name, children }: { name: string; children: React.ReactNode }) {
  return <div className="flex items-baseline gap-2 max-sm:flex-wrap"><span className="w-24 shrink-0 text-soft">{name}</span><div className="flex min-w-0 flex-1 flex-wrap items-baseline gap-2">{children}</div></div>;
}
