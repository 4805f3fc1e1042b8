import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { api, ask, type Schemas } from "../api";
import { count, size, span, when } from "../format";
import { Card, td, th } from "../ui";

/** Beside is how a group that is edited would fare among all others, and what it would make of them. */
export function Beside({ own, body }: { own?: string; body?: Schemas["SiteForecastRequest"] }) {
  const text = body && JSON.stringify(body);
  const q = useQuery({
    queryKey: ["forecast-site", "beside", text],
    queryFn: () => ask(api.POST("/forecast/site", { body: JSON.parse(text ?? "{}") })),
    enabled: !!text,
    placeholderData: keepPreviousData,
    staleTime: 30_000,
    retry: false,
  });
  if (!text || !q.data) return null;
  const g = q.data.groups.find((x) => x.id === (own ?? "joined"));
  const others = q.data.groups.filter((x) => x.misses && x.id !== g?.id);
  if (!g) return null;
  return (
    <Card title="Among all groups" aside={`until ${when(q.data.until)}`}>
      <div className="grid gap-1.5 p-4">
        <div className={g.misses ? "text-over-ink" : ""}>
          {g.misses ? "✕" : "●"} within its target {(g.within * 100).toFixed(g.within > 0.9995 ? 0 : 1)} % of the time,
          worst {span(g.worstSeconds)}
        </div>
        {g.seedFinishAt && <div>First copy done {when(g.seedFinishAt)}</div>}
        {g.seeding && <div className="text-tight-ink">◌ The first copy is not done by then</div>}
        {others.length > 0 && (
          <div className="text-over-ink">
            ✕ {others.map((o) => o.name).join(", ")} would miss {others.length === 1 ? "its target" : "their targets"}
          </div>
        )}
        {q.data.changes.map((c) => (
          <div key={c.text} className="text-xs">
            → {c.text}: {c.fits ? "then all keep their targets" : `then ${count(c.misses, "group")} still would not`}
          </div>
        ))}
        {g.unknown.map((u) => (
          <div key={u} className="text-muted text-xs">
            ? {u}
          </div>
        ))}
      </div>
    </Card>
  );
}

/** Foretold is how earlier forecasts of a group came out. */
export function Foretold({ id }: { id: string }) {
  const q = useQuery({
    queryKey: ["forecasts", id],
    queryFn: () => ask(api.GET("/groups/{id}/forecasts", { params: { path: { id } } })),
    staleTime: 60_000,
  });
  const past = q.data?.filter((f) => f.cameWorstSeconds !== undefined).slice(0, 5) ?? [];
  const open = q.data?.find((f) => f.cameWorstSeconds === undefined);
  if (!past.length && !open) return null;
  return (
    <Card title="Foretold, and what came" aside="over what was foretold">
      <table className="w-full text-xs">
        <thead>
          <tr>
            <th className={th}>From</th>
            <th className={th}>Worst exposure</th>
            <th className={th}>Shipped</th>
          </tr>
        </thead>
        <tbody>
          {open && (
            <tr className="border-line border-t">
              <td className={td}>{when(open.madeAt)}</td>
              <td className={td}>
                {span(open.worstSeconds)} <span className="text-muted">foretold</span>
              </td>
              <td className={td}>{size(open.bytes)}</td>
            </tr>
          )}
          {past.map((f) => (
            <tr key={f.madeAt} className="border-line border-t">
              <td className={td}>{when(f.madeAt)}</td>
              <td className={`${td} whitespace-nowrap`}>
                {span(f.cameWorstSeconds ?? 0)}
                <span className="block text-muted">{span(f.worstSeconds)}</span>
              </td>
              <td className={`${td} whitespace-nowrap`}>
                {size(f.cameBytes ?? 0)}
                <span className="block text-muted">{size(f.bytes)}</span>
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </Card>
  );
}
