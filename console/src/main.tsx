import { QueryClientProvider } from "@tanstack/react-query";
import { StrictMode } from "react";
import { createRoot } from "react-dom/client";
import { BrowserRouter, Navigate, Route, Routes } from "react-router";
import { queries } from "./api";
import { ActivityPage } from "./pages/activity";
import { BoardPage } from "./pages/board";
import { GroupPage } from "./pages/group";
import { GroupFormPage } from "./pages/groupform";
import { GroupsPage } from "./pages/groups";
import { LandingsPage } from "./pages/landings";
import { MachinesPage } from "./pages/machines";
import { PointsPage } from "./pages/points";
import { SignInPage, WelcomePage } from "./pages/signin";
import { SitesPage } from "./pages/sites";
import { Shell } from "./shell";
import "./styles.css";

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
              <Route path="/points" element={<PointsPage />} />
              <Route path="/landings" element={<LandingsPage />} />
              <Route path="/machines" element={<MachinesPage />} />
              <Route path="/links" element={<SitesPage />} />
              <Route path="/activity" element={<ActivityPage />} />
              <Route path="*" element={<Navigate to="/" replace />} />
            </Route>
          </Routes>
        </BrowserRouter>
      </QueryClientProvider>
    </StrictMode>,
  );
}
