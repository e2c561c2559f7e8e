import { Suspense, lazy } from "react";
import { Navigate, Route, Routes, useLocation } from "react-router";
import { Problem } from "../api/client";
import { useWho } from "../api/hooks";
import { Awaiting, Trouble } from "../parts/trouble";
import { Now } from "../places/now/Now";
import { Frame } from "./Frame";
import { SignIn } from "./SignIn";
import { Welcome } from "./Welcome";

const QueuePlace = lazy(() => import("../places/queue/Queue"));
const YardPlace = lazy(() => import("../places/yard/Yard"));
const PoolPage = lazy(() => import("../places/yard/PoolPage"));
const ProjectPage = lazy(() => import("../places/projects/ProjectPage"));
const RunnerPage = lazy(() => import("../places/yard/RunnerPage"));
const RunsPlace = lazy(() => import("../places/runs/Runs"));
const RunPage = lazy(() => import("../places/runs/RunPage"));
const JobsList = lazy(() => import("../places/runs/Jobs"));
const TrendsPlace = lazy(() => import("../places/trends/Trends"));
const AlertsPage = lazy(() => import("../places/now/Alerts"));
const SettingsPlace = lazy(() => import("../places/settings/Settings"));
const JobPage = lazy(() => import("../places/runs/JobPage"));

export function App() {
  const who = useWho();
  const { pathname } = useLocation();
  if (pathname === "/welcome") return <Welcome />;
  if (who.error instanceof Problem && who.error.status === 401) return <SignIn />;
  if (!who.data) return who.error ? <Trouble error={who.error} /> : <Awaiting what="the service" />;
  return (
    <Frame who={who.data}>
      <Suspense fallback={<Awaiting what="the page" />}>
        <Routes>
          <Route path="/" element={<Now />} />
          <Route path="/queue" element={<QueuePlace />} />
          <Route path="/yard" element={<YardPlace />} />
          <Route path="/pools/:pool" element={<PoolPage />} />
          <Route path="/projects/:project" element={<ProjectPage />} />
          <Route path="/runners/:runner" element={<RunnerPage />} />
          <Route path="/runs" element={<RunsPlace />} />
          <Route path="/runs/:run" element={<RunPage />} />
          <Route path="/jobs" element={<JobsList />} />
          <Route path="/trends" element={<TrendsPlace />} />
          <Route path="/alerts" element={<AlertsPage />} />
          <Route path="/jobs/:job" element={<JobPage />} />
          <Route path="/settings/:section?" element={<SettingsPlace />} />
          <Route path="*" element={<Navigate to="/" replace />} />
        </Routes>
      </Suspense>
    </Frame>
  );
}
