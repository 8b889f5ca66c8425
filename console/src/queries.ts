import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { checkPlan, get, planOf, records, type Account, type Act, type Cask, type FleetHost, type Overview, type PlanAssignment, type PlanLine, type PlanRevision, type Rollout, type CaskAndFeeds, type Shapes, type Shelf, type GivenAccount, type GivenToken, type Host, type Joining, type Notice, type Receiver, type SentInvitation, type StoredAlert, type View } from "./api";

// keys are the names under which answers are remembered: each has one type.
export const keys = {
  session: ["session"],
  casks: ["casks"],
  shelves: ["shelves"],
  cask: (name: string) => ["cask", name],
  hosts: ["hosts"],
  host: (id: string) => ["host", id],
  plan: (host: string) => ["plan", host],
  rules: (host: string, plan: string) => ["rules", host, plan],
  views: ["views"],
  words: ["words"],
  fleet: ["fleet"],
  overviews: ["overview"],
  overview: (search: string, limit: number) => ["overview", search, limit],
  planLines: ["plan-lines"],
  revisions: (plan: string) => ["revisions", plan],
  revision: (plan: string, number: number) => ["revision", plan, number],
  assignments: ["assignments"],
  rollouts: ["rollouts"],
  rollout: (id: string) => ["rollout", id],
  accounts: ["accounts"],
  tokens: ["tokens"],
  invitations: ["invitations"],
  joinings: ["joinings"],
  audit: ["audit"],
  hour: ["hour"],
  priorities: ["priorities"],
  last: (host: string) => ["last", host],
  records: (query: string) => ["records", query],
  histogram: (query: string) => ["histogram", query],
  counted: (by: string, query: string) => ["counted", by, query],
  shapes: (query: string) => ["shapes", query],
  alerts: ["alerts"],
  receivers: ["receivers"],
  notices: ["notices"],
  noticesOf: (state: string) => ["notices", "of", state],
  notice: (id: string) => ["notices", "one", id],
  tried: (name: string, text: string) => ["tried", name, text],
  neighbours: (of: unknown[]) => ["neighbours", ...of],
};

export const useSession = () => useQuery({ queryKey: keys.session, queryFn: () => get<Account>("/session") });
export const useMayOperate = () => ["operator", "admin"].includes(useSession().data?.role ?? "");
export const useIsAdmin = () => useSession().data?.role === "admin";

export const useCasks = (enabled = true) => useQuery({ queryKey: keys.casks, queryFn: ({ signal }) => get<Cask[]>("/casks", signal), refetchInterval: 5000, enabled });
export const useCask = (name: string) => useQuery({ queryKey: keys.cask(name), queryFn: ({ signal }) => get<CaskAndFeeds>(`/casks/${encodeURIComponent(name)}`, signal), refetchInterval: 5000 });

// Of thousands of hosts what all say is much: it is asked for less often.
export const useHosts = () => useQuery({ queryKey: keys.hosts, queryFn: ({ signal }) => get<Host[]>("/status", signal), refetchInterval: (q) => ((q.state.data?.length ?? 0) > 200 ? 30000 : 2000) });
// useOverview lists the hosts in which all words are found, those that need a person first.
export const useOverview = (search: string, limit: number) => useQuery({ queryKey: keys.overview(search, limit), queryFn: ({ signal }) => get<Overview>(`/overview?${new URLSearchParams({ search, limit: `${limit}` })}`, signal), placeholderData: keepPreviousData, refetchInterval: (q) => ((q.state.data?.all ?? 0) > 200 ? 10000 : 2000) });
export const useHost = (id: string) => useQuery({ queryKey: keys.host(id), queryFn: ({ signal }) => get<Host>(`/agents/${id}`, signal), refetchInterval: 2000, retry: false });
export const usePlan = (host: string) => useQuery({ queryKey: keys.plan(host), queryFn: () => planOf(host), enabled: !!host });
export const useRules = (h: Host, enabled: boolean) => useQuery({ queryKey: keys.rules(h.agent_id, h.plan_hash), queryFn: async () => (await checkPlan((await planOf(h.agent_id)).text)).rules, enabled });

export const useWords = () => useQuery({ queryKey: keys.words, queryFn: () => get<string[]>("/plans/words"), staleTime: Infinity });

export const useViews = (enabled: boolean) => useQuery({ queryKey: keys.views, queryFn: ({ signal }) => get<View[]>("/views", signal), enabled });

// useShapes counts records by the shapes of their texts.
export const useShapes = (query: URLSearchParams) => useQuery({ queryKey: keys.shapes(`${query}`), queryFn: ({ signal }) => get<Shapes>(`/shapes?${query}`, signal), placeholderData: keepPreviousData });

export const useAccounts = () => useQuery({ queryKey: keys.accounts, queryFn: ({ signal }) => get<GivenAccount[]>("/accounts", signal), refetchInterval: 5000 });
export const useTokens = () => useQuery({ queryKey: keys.tokens, queryFn: ({ signal }) => get<GivenToken[]>("/tokens", signal), refetchInterval: 5000 });
export const useInvitations = () => useQuery({ queryKey: keys.invitations, queryFn: ({ signal }) => get<SentInvitation[]>("/invitations", signal), refetchInterval: 5000 });
export const useJoinings = (enabled = true) => useQuery({ queryKey: keys.joinings, queryFn: ({ signal }) => get<Joining[]>("/joinings", signal), refetchInterval: 5000, enabled });
export const useAudit = () => useQuery({ queryKey: keys.audit, queryFn: ({ signal }) => get<Act[]>("/audit?limit=100", signal), refetchInterval: 5000 });

const useList = <T>(queryKey: string[], path: string, refetchInterval = 5000) => useQuery({ queryKey, queryFn: ({ signal }) => get<T[]>(path, signal), refetchInterval });
export const useShelves = (enabled: boolean) => useQuery({ queryKey: keys.shelves, queryFn: ({ signal }) => get<Shelf[]>("/shelves", signal), refetchInterval: 5000, enabled });
export const useAlerts = () => useList<StoredAlert>(keys.alerts, "/alerts");
export const useReceivers = (enabled: boolean) => useQuery({ queryKey: keys.receivers, queryFn: ({ signal }) => get<Receiver[]>("/receivers", signal), refetchInterval: 5000, enabled });
export const useNotices = (state: string) => useQuery({ queryKey: keys.noticesOf(state), queryFn: ({ signal }) => get<Notice[]>(`/notices?${new URLSearchParams({ state })}`, signal), placeholderData: keepPreviousData, refetchInterval: 3000 });
export const useNotice = (id: string) => useQuery({ queryKey: keys.notice(id), queryFn: ({ signal }) => get<Notice>(`/notices/${encodeURIComponent(id)}`, signal), refetchInterval: 3000, retry: false });
export const useFleet = () => useList<FleetHost>(keys.fleet, "/fleet", 30000);
export const usePlanLines = () => useList<PlanLine>(keys.planLines, "/plans");
export const useAssignments = () => useList<PlanAssignment>(keys.assignments, "/assignments");
export const useRollouts = () => useList<Rollout>(keys.rollouts, "/rollouts", 2000);
export const useRevisions = (plan: string) => useQuery({ queryKey: keys.revisions(plan), queryFn: ({ signal }) => get<PlanRevision[]>(`/plans/${encodeURIComponent(plan)}`, signal), retry: false });
export const useRevision = (plan: string, number: number) => useQuery({ queryKey: keys.revision(plan, number), queryFn: ({ signal }) => get<PlanRevision>(`/plans/${encodeURIComponent(plan)}/${number}`, signal), enabled: number > 0, staleTime: Infinity, placeholderData: (before) => (before?.plan === plan ? before : undefined) });
export const useRollout = (id: string) => useQuery({ queryKey: keys.rollout(id), queryFn: ({ signal }) => get<Rollout>(`/rollouts/${id}`, signal), refetchInterval: 1000, retry: false });

// useLast returns the last records of a host.
export const useLast = (host: string | undefined, most: number) => useQuery({
  queryKey: keys.last(host ?? ""),
  queryFn: async ({ signal }) => (await records(new URLSearchParams({ where: `agent is "${host}"`, since: new Date(Date.now() - 86400e3).toISOString() }), most, "", signal)).records,
  enabled: !!host,
});
