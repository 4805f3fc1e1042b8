import { useQuery } from "@tanstack/react-query";
import {
  Archive,
  BadgeCheck,
  Bell,
  Boxes,
  CalendarDays,
  ChartLine,
  ChartNoAxesColumn,
  Database,
  FileChartColumn,
  FlaskConical,
  KeyRound,
  Layers,
  LifeBuoy,
  Link2,
  List,
  LogOut,
  Menu,
  Moon,
  PlaneLanding,
  Replace,
  Server,
  Sun,
} from "lucide-react";
import { Component, type ReactNode, Suspense, useState } from "react";
import { Navigate, NavLink, Outlet, useLocation, useNavigate } from "react-router";
import { api, ask, Problem, queries, useLive } from "./api";
import { asks } from "./asks";
import { FindAnything } from "./find";
import { SecondFactorCard } from "./pages/secondfactor";

const nav = [
  { to: "/", text: "Tide board", icon: ChartNoAxesColumn },
  { to: "/alerts", text: "Alerts", icon: Bell },
  { to: "/groups", text: "Groups", icon: Layers },
  { to: "/readiness", text: "Readiness", icon: LifeBuoy },
  { to: "/attainment", text: "Attainment", icon: BadgeCheck },
  { to: "/reports", text: "Reports", icon: FileChartColumn },
  { to: "/calendar", text: "Calendar", icon: CalendarDays },
  { to: "/forecast", text: "Forecast", icon: ChartLine },
  { to: "/points", text: "Recovery points", icon: Archive },
  { to: "/drills", text: "Drills", icon: FlaskConical },
  { to: "/failovers", text: "Failovers", icon: Replace },
  { to: "/landings", text: "Landings", icon: PlaneLanding },
  { to: "/machines", text: "Machines", icon: Server },
  { to: "/sites", text: "Sites", icon: Link2 },
  { to: "/platforms", text: "Platforms", icon: Boxes },
  { to: "/store", text: "Point store", icon: Database },
  { to: "/access", text: "Access", icon: KeyRound },
  { to: "/activity", text: "Activity", icon: List },
];

function useTheme() {
  const [theme, set] = useState(() => {
    const t = localStorage.getItem("theme") ?? (matchMedia("(prefers-color-scheme: dark)").matches ? "dark" : "light");
    document.documentElement.dataset.theme = t;
    return t;
  });
  return {
    theme,
    flip: () => {
      const t = theme === "dark" ? "light" : "dark";
      localStorage.setItem("theme", t);
      document.documentElement.dataset.theme = t;
      set(t);
    },
  };
}

/** Guard keeps a fault of one page from taking the others away. */
class Guard extends Component<{ children: ReactNode }, { fault?: Error }> {
  override state: { fault?: Error } = {};
  static getDerivedStateFromError(fault: Error) {
    return { fault };
  }
  override render() {
    if (!this.state.fault) return this.props.children;
    return (
      <div role="alert" className="grid justify-items-start gap-2 p-8">
        <p className="font-semibold">This page cannot be shown.</p>
        <p className="text-muted">{this.state.fault.message}. Nothing was changed; the other pages go on working.</p>
        <button type="button" className="cursor-pointer font-semibold text-link" onClick={() => location.reload()}>
          Load it again
        </button>
      </div>
    );
  }
}

export function Shell() {
  const me = useQuery(asks.me);
  const where = useLocation();
  if (me.error instanceof Problem && me.error.status === 401) {
    const to = where.pathname + where.search;
    return <Navigate to={to === "/" ? "/sign-in" : `/sign-in?to=${encodeURIComponent(to)}`} replace />;
  }
  if (me.error) {
    return (
      <main className="p-8">
        <p className="font-semibold">The site does not answer.</p>
        <p className="text-muted">Check that the service is running; this page tries again by itself.</p>
      </main>
    );
  }
  if (!me.data) return null;
  if (me.data.held) {
    return (
      <main className="mx-auto grid max-w-xl gap-4 p-4 pt-12">
        <h1 className="font-bold text-lg">One thing first, {me.data.name}</h1>
        <p className="text-muted">{me.data.held}</p>
        <SecondFactorCard />
      </main>
    );
  }
  return <Inside site={me.data.site} name={me.data.name} />;
}

function Inside({ site, name }: { site: string; name: string }) {
  const live = useLive();
  const { theme, flip } = useTheme();
  const [open, setOpen] = useState(false);
  const go = useNavigate();
  const where = useLocation();
  const links = useQuery(asks.links);
  const unseen = useQuery(asks.alerts).data?.filter((a) => !a.ackedAt && !a.silenced).length ?? 0;
  const signOut = async () => {
    await ask(api.DELETE("/session")).catch(() => undefined);
    queries.clear();
    go("/sign-in");
  };
  return (
    <div className="min-h-screen lg:grid lg:grid-cols-[196px_minmax(0,1fr)]">
      <a
        href="#content"
        className="sr-only focus:not-sr-only focus:absolute focus:z-30 focus:bg-card focus:p-2 focus:text-ink"
      >
        To the content
      </a>
      <div className="bg-deep text-on-deep lg:sticky lg:top-0 lg:flex lg:h-screen lg:flex-col">
        <div className="flex items-center justify-between gap-2 px-4 py-3 lg:py-4">
          <span className="flex items-center gap-2.5 font-bold">
            <img src="/mark.svg" alt="" className="size-6" /> Kestrel Tide
          </span>
          <button
            type="button"
            className="cursor-pointer p-1 lg:hidden"
            aria-label="Menu"
            aria-expanded={open}
            onClick={() => setOpen(!open)}
          >
            <Menu className="size-5" />
          </button>
        </div>
        <div className="mx-3 mb-3 rounded-md border border-white/20 px-3 py-2 text-xs lg:block">
          you are at <strong className="block text-sm text-white">{site}</strong>
          <span>
            {links.data?.length ? `paired · ${links.data.map((l) => l.peer).join(", ")}` : "not paired with any site"}
          </span>
        </div>
        <div className={`${open ? "block" : "hidden"} lg:block`}>
          <FindAnything />
        </div>
        <nav aria-label="Pages" className={`${open ? "block" : "hidden"} flex-1 px-2 pb-2 lg:block`}>
          {nav.map((n) => (
            <NavLink
              key={n.to}
              to={n.to}
              end={n.to === "/"}
              onClick={() => setOpen(false)}
              className={({ isActive }) =>
                `mb-px flex items-center gap-2.5 rounded-md px-3 py-[5px] hover:bg-deep-2 ${isActive ? "bg-deep-2 font-semibold text-white" : ""}`
              }
            >
              <n.icon aria-hidden="true" className="size-4" /> {n.text}
              {n.to === "/alerts" && unseen > 0 && (
                <span className="ml-auto rounded-full bg-over px-2 font-semibold text-white text-xs">
                  {unseen}
                  <span className="sr-only"> open that nobody sees to</span>
                </span>
              )}
            </NavLink>
          ))}
        </nav>
        <div className={`${open ? "block" : "hidden"} px-4 pb-4 text-xs lg:block`}>
          <div className="mb-2" role="status">
            {live ? "● live" : "✕ no live updates; trying again"}
          </div>
          <div className="flex items-center gap-3">
            <span className="truncate">{name}</span>
            <button type="button" className="cursor-pointer p-1" aria-label="Light or dark" onClick={flip}>
              {theme === "dark" ? <Sun className="size-4" /> : <Moon className="size-4" />}
            </button>
            <button type="button" className="cursor-pointer p-1" aria-label="Sign out" onClick={signOut}>
              <LogOut className="size-4" />
            </button>
          </div>
        </div>
      </div>
      <main id="content" className="mx-auto w-full max-w-[1500px] px-4 py-5 lg:px-7">
        <Guard key={where.pathname}>
          <Suspense>
            <Outlet />
          </Suspense>
        </Guard>
      </main>
    </div>
  );
}
