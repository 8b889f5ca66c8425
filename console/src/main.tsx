import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { lazy, StrictMode, Suspense } from "react";
import { createRoot } from "react-dom/client";
import { BrowserRouter, Navigate, Route, Routes } from "react-router";
import { Problem } from "./api";
import { Shell } from "./shell";
import { SignIn } from "./signin";
import "./style.css";
import { useSession } from "./queries";
import { Alert } from "./ui";

const Today = lazy(() => import("./today"));
const Hosts = lazy(() => import("./hosts"));
const HostPage = lazy(() => import("./hosts").then((m) => ({ default: m.HostPage })));
const Plans = lazy(() => import("./plans"));
const Fleet = lazy(() => import("./fleet"));
const PlanPage = lazy(() => import("./fleet").then((m) => ({ default: m.PlanPage })));
const RolloutPage = lazy(() => import("./fleet").then((m) => ({ default: m.RolloutPage })));
const Casks = lazy(() => import("./casks"));
const CaskPage = lazy(() => import("./casks").then((m) => ({ default: m.CaskPage })));
const Notices = lazy(() => import("./notices"));
const NoticePage = lazy(() => import("./notices").then((m) => ({ default: m.NoticePage })));
const Alerts = lazy(() => import("./alerts"));
const AlertPage = lazy(() => import("./alertpage"));
const Access = lazy(() => import("./access"));
const ShapesPage = lazy(() => import("./shapes"));
const Logs = lazy(() => import("./logs"));

const client = new QueryClient({
  defaultOptions: { queries: { retry: (n, error) => !(error instanceof Problem && error.status >= 400 && error.status < 500) && n < 3, refetchOnWindowFocus: false } },
});

function App() {
  const session = useSession();
  if (session.isPending) return null;
  if (session.error instanceof Problem && session.error.status === 401) return <SignIn />;
  if (session.error) return <Alert className="m-6">{session.error.message}</Alert>;
  return (
    <Routes>
      <Route element={<Shell account={session.data} />}>
        <Route index element={<Suspense><Today /></Suspense>} />
        <Route path="hosts" element={<Suspense><Hosts /></Suspense>} />
        <Route path="hosts/:id" element={<Suspense><HostPage /></Suspense>} />
        <Route path="plans" element={<Suspense><Plans /></Suspense>} />
        <Route path="fleet" element={<Suspense><Fleet /></Suspense>} />
        <Route path="fleet/:name" element={<Suspense><PlanPage /></Suspense>} />
        <Route path="rollouts/:id" element={<Suspense><RolloutPage /></Suspense>} />
        <Route path="logs" element={<Suspense><Logs /></Suspense>} />
        <Route path="shapes" element={<Suspense><ShapesPage /></Suspense>} />
        <Route path="notices" element={<Suspense><Notices /></Suspense>} />
        <Route path="notices/:id" element={<Suspense><NoticePage /></Suspense>} />
        <Route path="alerts" element={<Suspense><Alerts /></Suspense>} />
        <Route path="alerts/:name" element={<Suspense><AlertPage /></Suspense>} />
        <Route path="access" element={<Suspense><Access /></Suspense>} />
        <Route path="casks" element={<Suspense><Casks /></Suspense>} />
        <Route path="casks/:name" element={<Suspense><CaskPage /></Suspense>} />
        <Route path="*" element={<Navigate to="/" replace />} />
      </Route>
    </Routes>
  );
}

createRoot(document.getElementById("root")!).render(
  <StrictMode>
    <QueryClientProvider client={client}>
      <BrowserRouter><App /></BrowserRouter>
    </QueryClientProvider>
  </StrictMode>,
);
