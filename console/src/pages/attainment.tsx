import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { useAddress } from "../address";
import { api, ask, type Schemas } from "../api";
import { asks } from "../asks";
import { count, size, span } from "../format";
import { Bar, Card, Empty, Fault, Heads, Page, td, When } from "../ui";

type Row = Schemas["AttainmentRow"];

const day = 86400;
const select = "rounded-md border border-line bg-card px-2.5 py-1.5 text-ink";
const spans = [
  ["1", "the last day"],
  ["7", "the last 7 days"],
  ["30", "the last 30 days"],
  ["90", "the last 90 days"],
  ["365", "the last year"],
] as const;

/** kept writes a share; what is not all of it is not rounded to that. */
export function kept(r: Row): string {
  if (!r.coveredSeconds) return "no point yet";
  if (r.keptShare >= 1) return "100 %";
  return r.keptShare > 0.9999 ? "> 99.99 %" : `${(100 * r.keptShare).toFixed(2)} %`;
}

/** AttainmentPage tells how promises were kept. */
export function AttainmentPage() {
  const [get, set] = useAddress();
  const by = get("by") || "group";
  const days = Number(get("days") || 30);
  const q = useQuery({
    queryKey: ["attainment", by, days],
    queryFn: () =>
      ask(
        api.GET("/attainment", {
          params: {
            query: {
              by: by as "group" | "tier" | "tag",
              from: new Date(Date.now() - days * day * 1000).toISOString(),
            },
          },
        }),
      ),
    placeholderData: keepPreviousData,
    refetchInterval: 60_000,
  });
  const groups = useQuery(asks.groups);
  const page = (name: string) => groups.data?.find((g) => g.name === name)?.id;
  const v = q.data;
  return (
    <Page
      title="Attainment"
      actions={
        <>
          <select
            aria-label="Over"
            className={select}
            value={String(days)}
            onChange={(e) => set({ days: e.target.value === "30" ? "" : e.target.value })}
          >
            {spans.map(([n, text]) => (
              <option key={n} value={n}>
                {text}
              </option>
            ))}
          </select>
          <select
            aria-label="By"
            className={select}
            value={by}
            onChange={(e) => set({ by: e.target.value === "group" ? "" : e.target.value })}
          >
            <option value="group">by group</option>
            <option value="tier">by tier</option>
            <option value="tag">by tag</option>
          </select>
        </>
      }
    >
      <Fault of={q.error} />
      {v && (
        <Card className="grid gap-1 p-4">
          <p className="font-bold text-xl">
            {v.total.coveredSeconds
              ? `Within the promise of the time for ${kept(v.total)} of it`
              : "There was no point in that time"}
          </p>
          <p className="text-muted">
            {count(v.total.groups, "group")}, {span(v.total.overSeconds)} over together, worst{" "}
            {span(v.total.worstSeconds)}
            {v.total.worstGroup && ` (${v.total.worstGroup})`}. {count(v.total.sealed, "cycle")} sealed,{" "}
            {v.total.failed} failed, {count(v.total.missed, "start")} missed. Each moment is judged by the target that
            was promised then; time in which cycles were held on purpose counts apart.
          </p>
        </Card>
      )}
      <Card>
        {v?.rows.length === 0 ? (
          <Empty>No group yet, so nothing was promised.</Empty>
        ) : (
          <div className="overflow-x-auto">
            <table className="w-full">
              <Heads
                of={[
                  by === "group" ? "Group" : by === "tier" ? "Tier" : "Tag",
                  "Within",
                  "Over",
                  "Worst",
                  "Held",
                  "Cycles",
                  "Changed",
                ]}
              />
              <tbody>
                {v?.rows.map((r) => (
                  <tr key={r.name} className="border-line border-t">
                    <td className={td}>
                      {by === "group" && page(r.name) ? (
                        <Link to={`/groups/${page(r.name)}`} className="font-semibold text-link">
                          {r.name}
                        </Link>
                      ) : (
                        <span className="font-semibold">{r.name}</span>
                      )}
                      {by !== "group" && <div className="text-muted text-xs">{count(r.groups, "group")}</div>}
                    </td>
                    <td className={`${td} min-w-36`}>
                      <div className="mb-1">{kept(r)}</div>
                      {r.coveredSeconds > 0 && <Bar share={r.keptShare} label={`${r.name}: ${kept(r)} within`} />}
                    </td>
                    <td className={td}>{r.overSeconds ? span(r.overSeconds) : "—"}</td>
                    <td className={td}>
                      {r.worstAt ? span(r.worstSeconds) : "—"}
                      {r.worstAt && (
                        <div className="text-muted text-xs">
                          {r.groups > 1 && r.worstGroup && `${r.worstGroup}, `}
                          <When at={r.worstAt} />
                        </div>
                      )}
                    </td>
                    <td className={td}>
                      {r.pausedSeconds ? span(r.pausedSeconds) : "—"}
                      {r.pausedOverSeconds > 0 && (
                        <div className="text-muted text-xs">over for {span(r.pausedOverSeconds)} of it</div>
                      )}
                    </td>
                    <td className={td}>
                      {r.sealed + r.failed + r.missed ? r.sealed : "—"}
                      {(r.failed > 0 || r.missed > 0) && (
                        <div className="text-muted text-xs">
                          {r.failed} failed, {r.missed} missed
                        </div>
                      )}
                    </td>
                    <td className={td}>{r.changedBytes ? size(r.changedBytes) : "—"}</td>
                  </tr>
                ))}
              </tbody>
            </table>
          </div>
        )}
      </Card>
    </Page>
  );
}
