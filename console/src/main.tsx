import { QueryClientProvider } from "@tanstack/react-query";
import { type ComponentType, lazy, StrictMode } from "react";
import { createRoot } from "react-dom/client";
import { BrowserRouter, Navigate, Route, Routes } from "react-router";
import { queries } from "./api";
import { BoardPage } from "./pages/board";
import { SignInPage, WelcomePage } from "./pages/signin";
import { Shell } from "./shell";
import "./styles.css";

/** page loads a page when it is first gone to. */
function page<K extends string>(load: () => Promise<Record<K, ComponentType>>, name: K) {
  return lazy(async () => ({ default: (await load())[name] }));
}

const AccessPage = page(() => import("./pages/access"), "AccessPage");
const ActivityPage = page(() => import("./pages/activity"), "ActivityPage");
const AlertsPage = page(() => import("./pages/alerts"), "AlertsPage");
const AttainmentPage = page(() => import("./pages/attainment"), "AttainmentPage");
const ReportsPage = page(() => import("./pages/reports"), "ReportsPage");
const BerthDefaultPage = page(() => import("./pages/berth"), "BerthDefaultPage");
const GroupBerthPage = page(() => import("./pages/berth"), "GroupBerthPage");
const CalendarPage = page(() => import("./pages/calendar"), "CalendarPage");
const FilePage = page(() => import("./pages/file"), "FilePage");
const ForecastPage = page(() => import("./pages/forecast"), "ForecastPage");
const GroupPage = page(() => import("./pages/group"), "GroupPage");
const GroupFormPage = page(() => import("./pages/groupform"), "GroupFormPage");
const GroupsPage = page(() => import("./pages/groups"), "GroupsPage");
const LandingsPage = page(() => import("./pages/landings"), "LandingsPage");
const DrillsPage = page(() => import("./pages/drills"), "DrillsPage");
const DrillPage = page(() => import("./pages/drills"), "DrillPage");
const FailoversPage = page(() => import("./pages/failovers"), "FailoversPage");
const FlotillaPage = page(() => import("./pages/flotillas"), "FlotillaPage");
const FailoverPage = page(() => import("./pages/failovers"), "FailoverPage");
const MachinesPage = page(() => import("./pages/machines"), "MachinesPage");
const PlatformsPage = page(() => import("./pages/platforms"), "PlatformsPage");
const PointsPage = page(() => import("./pages/points"), "PointsPage");
const ReadinessPage = page(() => import("./pages/readiness"), "ReadinessPage");
const SitesPage = page(() => import("./pages/sites"), "SitesPage");
const SurveyPage = page(() => import("./pages/surveys"), "SurveyPage");
const SurveysPage = page(() => import("./pages/surveys"), "SurveysPage");
const StorePage = page(() => import("./pages/store"), "StorePage");

const TiersPage = page(() => import("./pages/tiers"), "TiersPage");

const root = document.getElementById("root");
if (root) {
  createRoot(root).render(
    <StrictMode>
      <QueryClientProvider client={queries}>
        <BrowserRouter>
          <Routes>
            <Route path="/sign-in" element={<SignInPage />} />
            <Route path="/welcome" element={<WelcomePage />} />
            <Route element={<Shell />}>
              <Route index element={<BoardPage />} />
              <Route path="/groups" element={<GroupsPage />} />
              <Route path="/groups/new" element={<GroupFormPage />} />
              <Route path="/groups/:id" element={<GroupPage />} />
              <Route path="/groups/:id/edit" element={<GroupFormPage />} />
              <Route path="/groups/:id/berth" element={<GroupBerthPage />} />
              <Route path="/berths/:of/:id" element={<BerthDefaultPage />} />
              <Route path="/calendar" element={<CalendarPage />} />
              <Route path="/file" element={<FilePage />} />
              <Route path="/forecast" element={<ForecastPage />} />
              <Route path="/tiers" element={<TiersPage />} />
              <Route path="/readiness" element={<ReadinessPage />} />
              <Route path="/attainment" element={<AttainmentPage />} />
              <Route path="/reports" element={<ReportsPage />} />
              <Route path="/alerts" element={<AlertsPage />} />
              <Route path="/points" element={<PointsPage />} />
              <Route path="/drills" element={<DrillsPage />} />
              <Route path="/drills/:id" element={<DrillPage />} />
              <Route path="/failovers" element={<FailoversPage />} />
              <Route path="/flotillas/:id" element={<FlotillaPage />} />
              <Route path="/failovers/:id" element={<FailoverPage />} />
              <Route path="/landings" element={<LandingsPage />} />
              <Route path="/machines" element={<MachinesPage />} />
              <Route path="/surveys" element={<SurveysPage />} />
              <Route path="/surveys/:id" element={<SurveyPage />} />
              <Route path="/sites" element={<SitesPage />} />
              <Route path="/platforms" element={<PlatformsPage />} />
              <Route path="/store" element={<StorePage />} />
              <Route path="/access" element={<AccessPage />} />
              <Route path="/activity" element={<ActivityPage />} />
              <Route path="*" element={<Navigate to="/" replace />} />
            </Route>
          </Routes>
        </BrowserRouter>
      </QueryClientProvider>
    </StrictMode>,
  );
}
