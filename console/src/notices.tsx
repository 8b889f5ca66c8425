import { Link, useParams } from "react-router";
import { useAddress } from "./address";
import { listOf, type Host, type Outlet, type Told } from "./api";
import { NoticeList } from "./noticelist";
import { useHosts, useNotice, useNotices } from "./queries";
import { ago, clock, count, day } from "./time";
import { Alert, Card, control } from "./ui";

// Notices shows what alerts have told, and what tells a person on the hosts themselves.
export default function Notices() {
  return (
    <div className="h-full overflow-auto p-3 sm:p-5">
      <h1 className="sr-only">Notices</h1>
      <OfAlerts />
      <OfHosts />
    </div>
  );
}

// NoticePage shows one notice, with how it was sent.
export function NoticePage() {
  const { id = "" } = useParams();
  const notice = useNotice(id);
  const n = notice.data;
  return (
    <div className="h-full overflow-auto p-3 sm:p-5">
      <h1 className="mb-3 text-xl font-semibold">Notice {id}{n && <> of alert <Link className="underline" to={`/alerts/${n.alert}`}>{n.alert}</Link></>}</h1>
      {notice.error && <Alert>{notice.error.message}</Alert>}
      {n && <Card title="What it is about"><NoticeList notices={[n]} whole /></Card>}
      {n && (
        <Card title="How it was sent" className="mt-3">
          {n.sent.length === 0 && <p className="text-soft">{n.pending ? "Nobody was told yet." : "The alert names no receiver: it stands in this list alone."}</p>}
          <ul>
            {n.sent.map((s, i) => (
              <li key={i} className="flex flex-wrap gap-x-4 border-t border-line py-1">
                <span className="w-40 font-semibold">{s.receiver}</span>
                <span className="text-soft">{s.done ? `sent ${ago(s.done)}` : s.given_up ? "given up" : `not yet, tried ${count(s.tries)} times`}</span>
                {s.trouble && <span className="[overflow-wrap:anywhere]">{s.trouble}</span>}
              </li>
            ))}
          </ul>
        </Card>
      )}
    </div>
  );
}

const choices: [string, string][] = [["told,seen", "open"], ["told", "nobody is on"], ["done", "done"], ["", "all"]];

// OfAlerts lists what alerts have told.
function OfAlerts() {
  const { params, change } = useAddress();
  const state = params.get("state") ?? "told,seen";
  const notices = useNotices(state);
  return (
    <Card title="What alerts have told" className="mb-3">
      <select aria-label="which" className={control} value={state} onChange={(e) => change({ state: e.target.value === "told,seen" ? null : e.target.value || "told,seen,done" })}>
        {choices.map(([value, name]) => <option key={name} value={value || "told,seen,done"}>{name}</option>)}
      </select>
      {notices.error && <Alert className="mt-2">{notices.error.message}</Alert>}
      {notices.data && <NoticeList notices={notices.data} />}
      {notices.data?.length === 0 && <p className="mt-2 text-soft">Nothing here. What the store is to ask for you is on the page <Link className="underline" to="/alerts">Alerts</Link>.</p>}
    </Card>
  );
}

// OfHosts shows what tells a person on hosts, over which way, what was told, and what is held back until the next notice.
function OfHosts() {
  const hosts = useHosts();
  if (hosts.error) return <Alert>{hosts.error.message}</Alert>;
  if (!hosts.data) return null;
  const ways: { host: Host; outlet: Outlet }[] = hosts.data.flatMap((host) => listOf(host.status?.outlets).filter((o) => o.kind === "notify").map((outlet) => ({ host, outlet })));
  const told: { host: Host; notice: Told }[] = hosts.data.flatMap((host) => listOf(host.status?.told).map((notice) => ({ host, notice })));
  told.sort((a, b) => b.notice.at.localeCompare(a.notice.at));
  return (
    <>
      <Card title="Who is told by hosts" className="mb-3">
        {ways.length === 0 && (
          <p className="text-soft">
            Nobody yet. In a plan: <code className="font-mono text-sm">{"duty: {notify: {webhook_file: /etc/oakbarrel/duty.url}}"}</code>, and a rule that sends the worst to it.
          </p>
        )}
        <ul>
          {ways.map(({ host, outlet: o }) => (
            <li key={host.agent_id + o.name} className="flex flex-wrap gap-x-4 border-t border-line py-2">
              <span className="w-56"><Link className="font-semibold hover:underline" to={`/hosts/${host.agent_id}`}>{host.name}</Link> / {o.name}</span>
              <span className="min-w-0 flex-1 [overflow-wrap:anywhere]">by {o.path}</span>
              <span>{count(o.out)} records told</span>
              <span className="text-soft">{o.held > 0 ? `${count(o.held)} held back for the next` : "none held back"}</span>
              {o.trouble && <p className="w-full [overflow-wrap:anywhere]" role="alert">▲ {o.trouble}</p>}
            </li>
          ))}
        </ul>
      </Card>
      <Card title="What hosts have told" className="mb-3">
        {told.length === 0 && <p className="text-soft">Nothing yet.</p>}
        <ul>
          {told.map(({ host, notice: n }) => (
            <li key={host.agent_id + n.outlet + n.at} className="border-t border-line py-2">
              <details>
                <summary className="cursor-pointer">
                  <span className="font-semibold">{n.title}</span>{" "}
                  <span className="text-soft" title={`${day(new Date(n.at))} ${clock(new Date(n.at))}`}>{ago(n.at)}, over {n.outlet}</span>
                </summary>
                <pre className="mt-2 overflow-x-auto rounded bg-paper p-3 font-mono text-xs whitespace-pre-wrap [overflow-wrap:anywhere]">{n.text}</pre>
              </details>
            </li>
          ))}
        </ul>
      </Card>
    </>
  );
}
