import { Link } from "react-router";
import { listOf, type Host, type Outlet, type Told } from "./api";
import { ago, clock, count, day } from "./time";
import { useHosts } from "./queries";
import { Alert, Card } from "./ui";

// Notices shows what tells a person, over which way, what was told, and what is held back until the next notice.
export default function Notices() {
  const hosts = useHosts();
  if (hosts.error) return <Alert className="m-6">{hosts.error.message}</Alert>;
  if (!hosts.data) return null;
  const ways: { host: Host; outlet: Outlet }[] = hosts.data.flatMap((host) => listOf(host.status?.outlets).filter((o) => o.kind === "notify").map((outlet) => ({ host, outlet })));
  const told: { host: Host; notice: Told }[] = hosts.data.flatMap((host) => listOf(host.status?.told).map((notice) => ({ host, notice })));
  told.sort((a, b) => b.notice.at.localeCompare(a.notice.at));
  return (
    <div className="h-full overflow-auto p-3 sm:p-5">
      <h1 className="sr-only">Notices</h1>
      <Card title="Who is told" className="mb-3">
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
      <Card title="What was told" className="mb-3">
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
    </div>
  );
}
