import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { api, ask, type Schemas } from "../api";
import { count } from "../format";
import { Card, Empty, Fault, Page, State, When } from "../ui";

type Readiness = Schemas["GroupReadiness"];
type Finding = Schemas["ReadinessFinding"];

/** state is the word for whether a group would recover. */
function state(g: Readiness): string {
  if (!g.known) return "ready unknown";
  if (!g.ready) return "ready no";
  return g.findings.length ? "ready warned" : "ready yes";
}

/** where is the page on which a finding is mended. */
function where(g: Readiness, f: Finding): string {
  switch (f.page) {
    case "berth":
      return `/groups/${g.id}/berth`;
    case "group":
      return `/groups/${g.id}`;
    default:
      return `/${f.page}`;
  }
}

function Findings({ g }: { g: Readiness }) {
  return (
    <ul>
      {g.findings.map((f) => (
        <li key={f.kind + (f.machine ?? "") + f.what} className="border-line border-t px-4 py-2">
          <div className={f.stops ? "text-over-ink" : "text-tight-ink"}>
            {f.stops ? "✕ " : "◆ "}
            {f.machine && !f.what.includes(f.machine) && `${f.machine}: `}
            {f.what}
          </div>
          <div className="text-muted text-xs">
            <Link to={where(g, f)} className="font-semibold text-link">
              {f.mend}
            </Link>{" "}
            Since <When at={f.since} />.
          </div>
        </li>
      ))}
    </ul>
  );
}

function Said({ g }: { g: Readiness }) {
  if (!g.at) return <>{g.recovery} has not said yet</>;
  if (!g.known)
    return (
      <>
        not known: {g.recovery} last said it <When at={g.at} />
      </>
    );
  return (
    <>
      seen by {g.recovery} <When at={g.at} />
    </>
  );
}

/** ReadinessPage tells which groups would recover right now. */
export function ReadinessPage() {
  const q = useQuery({
    queryKey: ["readiness"],
    queryFn: () => ask(api.GET("/readiness")),
    refetchInterval: 10_000,
  });
  const v = q.data;
  return (
    <Page title="Readiness">
      <Fault of={q.error} />
      {v && (
        <Card className="p-4">
          <p className="font-bold text-xl">
            {v.ready} of {count(v.groups, "group")} would recover right now, as they are
          </p>
          {v.unknown > 0 && (
            <p className="text-muted">
              Of {count(v.unknown, "group")} that is not known: their recovery site does not say.
            </p>
          )}
        </Card>
      )}
      {v?.groups === 0 && (
        <Empty
          action={
            <Link to="/groups/new" className="font-semibold text-link">
              Protect some machines →
            </Link>
          }
        >
          No group yet, so there is nothing to recover.
        </Empty>
      )}
      {v?.list.map((g) => (
        <Card
          key={g.id}
          title={
            <span className="flex items-center gap-3">
              <Link to={`/groups/${g.id}`}>{g.name}</Link>
              <State of={state(g)} />
            </span>
          }
          aside={
            <>
              {g.home} → {g.recovery}, <Said g={g} />
            </>
          }
        >
          <Findings g={g} />
          {g.known && !g.findings.length && <p className="px-4 py-2 text-muted">Nothing stands in the way.</p>}
        </Card>
      ))}
    </Page>
  );
}

/** GroupReadiness is the card of one group. */
export function GroupReadiness({ id }: { id: string }) {
  const q = useQuery({
    queryKey: ["readiness", id],
    queryFn: () => ask(api.GET("/groups/{id}/readiness", { params: { path: { id } } })),
    refetchInterval: 10_000,
  });
  const g = q.data;
  if (!g || g.direction === "ended") return null;
  return (
    <Card
      title={
        <span className="flex items-center gap-3">
          Would it recover right now? <State of={state(g)} />
        </span>
      }
      aside={<Said g={g} />}
    >
      <Findings g={g} />
      {g.known && !g.findings.length && <p className="px-4 py-3 text-muted">Nothing stands in the way.</p>}
      {!g.at && (
        <p className="px-4 py-3 text-muted">
          {g.recovery} looks at it every few seconds, and tells with its next beat.
        </p>
      )}
    </Card>
  );
}
