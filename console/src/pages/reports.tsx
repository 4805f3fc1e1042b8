import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useAddress, useDialog } from "../address";
import { api, ask, type Schemas } from "../api";
import { asks, useMay } from "../asks";
import { count, size, span } from "../format";
import { Plot } from "../plot";
import { Button, Card, Fault, Page, When } from "../ui";
import { kept } from "./attainment";
import { PlanDialog, Plans } from "./reportplans";

type Report = Schemas["Report"];
type Day = Schemas["ReportDay"];

const select = "rounded-md border border-line bg-card px-2.5 py-1.5 text-ink";
const link =
  "rounded-md border border-line bg-card px-3 py-1.5 font-semibold text-[13px] hover:border-muted whitespace-nowrap";

/** stretches of time that reports are usually of; each gives its beginning and end. */
const stretches: Record<string, [string, (now: Date) => [Date, Date]]> = {
  week: ["the last 7 days", (now) => [back(now, 7), now]],
  month: ["the last 30 days", (now) => [back(now, 30), now]],
  quarter: ["the last 90 days", (now) => [back(now, 90), now]],
  year: ["the last year", (now) => [back(now, 365), now]],
  "this-month": ["this month", (now) => [new Date(now.getFullYear(), now.getMonth(), 1), now]],
  "last-month": [
    "last month",
    (now) => [new Date(now.getFullYear(), now.getMonth() - 1, 1), new Date(now.getFullYear(), now.getMonth(), 1)],
  ],
};
const back = (now: Date, days: number) => new Date(now.getTime() - days * 86_400_000);

/** ReportsPage shows a report, gives it as files, and says which are sent by themselves. */
export function ReportsPage() {
  const [get, set] = useAddress();
  const may = useMay();
  const dialog = useDialog<"plan">();
  const over = get("over") || "month";
  const by = (get("by") || "group") as "group" | "tier" | "tag" | "site";
  const [from, to] = (stretches[over] ?? stretches.month)?.[1](new Date()) ?? [new Date(), new Date()];
  const only = { tier: get("tier") || undefined, tag: get("tag") || undefined, peer: get("peer") || undefined };
  const query = { from: from.toISOString(), to: to.toISOString(), by, ...only };
  const q = useQuery({
    queryKey: ["report", over, by, only],
    // Without a format it is JSON; tables and documents are links.
    queryFn: async () => (await ask(api.GET("/report", { params: { query } }))) as Report,
    refetchInterval: 60_000,
    placeholderData: keepPreviousData,
  });
  const groups = useQuery(asks.groups).data ?? [];
  const some = (of: (string | undefined)[]) => [...new Set(of.flatMap((x) => x ?? []))].sort();
  const narrow: [keyof typeof only, string, string[]][] = [
    ["tier", "all tiers", some(groups.map((g) => g.tier))],
    ["tag", "all tags", some(groups.flatMap((g) => g.tags))],
    ["peer", "all sites", some(groups.map((g) => g.peer))],
  ];
  const file = (format: string, table?: string) => {
    const p = new URLSearchParams({ from: query.from, to: query.to, by, format });
    for (const [k, v] of Object.entries({ ...only, table })) if (v) p.set(k, v);
    return `/api/v1/report?${p}`;
  };
  const v = q.data;
  return (
    <Page
      title="Reports"
      actions={
        <>
          <select
            aria-label="Over"
            className={select}
            value={over}
            onChange={(e) => set({ over: e.target.value === "month" ? "" : e.target.value })}
          >
            {Object.entries(stretches).map(([k, [text]]) => (
              <option key={k} value={k}>
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
            <option value="site">by other site</option>
          </select>
          {narrow.map(
            ([k, all, names]) =>
              names.length > 0 && (
                <select
                  key={k}
                  aria-label={`Only of a ${k}`}
                  className={select}
                  value={only[k] ?? ""}
                  onChange={(e) => set({ [k]: e.target.value })}
                >
                  <option value="">{all}</option>
                  {names.map((n) => (
                    <option key={n}>{n}</option>
                  ))}
                </select>
              ),
          )}
        </>
      }
    >
      <Fault of={q.error} />
      {v && (
        <Card
          title={`${v.site}, ${count(v.groups, "group")}`}
          aside={
            <>
              <When at={v.from} /> to <When at={v.to} />
            </>
          }
        >
          <div className="flex flex-wrap items-center gap-2 px-4 py-3">
            <a className={link} href={file("pdf")} download={`${v.site}.pdf`}>
              Document (PDF)
            </a>
            <a className={link} href={file("csv")} download={`${v.site}-attainment.csv`}>
              Attainment (CSV)
            </a>
            <a className={link} href={file("csv", "days")} download={`${v.site}-days.csv`}>
              Days (CSV)
            </a>
            <a className={link} href={file("csv", "drills")} download={`${v.site}-drills.csv`}>
              Drills (CSV)
            </a>
            <a className={link} href={file("csv", "failovers")} download={`${v.site}-failovers.csv`}>
              Failovers (CSV)
            </a>
            <a className={link} href={file("json")} download={`${v.site}.json`}>
              All of it (JSON)
            </a>
          </div>
          <Figures v={v} />
        </Card>
      )}
      {v && <Drawings v={v} />}
      {may.operate && (
        <Card
          title="Sent by themselves"
          aside={may.administer && <Button onClick={() => dialog.open("plan")}>Send one by calendar…</Button>}
        >
          <Plans />
        </Card>
      )}
      {dialog.name === "plan" && !dialog.ids.length && <PlanDialog onClose={dialog.close} />}
    </Page>
  );
}

/** Figures are what somebody wants to know first. */
function Figures({ v }: { v: Report }) {
  const t = v.attainment.total;
  const c = v.coverage.counts;
  const worst = v.attainment.rows.find((r) => r.coveredSeconds > 0);
  const figures: [string, string, string][] = [
    ["Within the promise", kept(t), worst && v.attainment.rows.length > 1 ? `least ${worst.name}: ${kept(worst)}` : ""],
    ["Over, together", span(t.overSeconds), t.worstGroup ? `worst ${span(t.worstSeconds)}, ${t.worstGroup}` : ""],
    ["Cycles", String(t.sealed), `${t.failed} failed, ${count(t.missed, "start")} missed`],
    [
      "Changed",
      size(t.changedBytes),
      t.wireBytes > 0 ? `${size(t.wireBytes)} sent (${(t.changedBytes / t.wireBytes).toFixed(1)} : 1)` : "",
    ],
    [
      "Machines protected",
      c.machines ? `${Math.round(100 * c.share)} %` : "—",
      `${c.protected + c.byRule} of ${c.machines - c.leftOut - c.landed}`,
    ],
  ];
  const d = v.drills;
  figures.push([
    "Drills",
    d.rows.length ? `${d.passed} of ${d.rows.length} passed` : "none",
    d.due.length ? `due of ${d.due.map((x) => x.group).join(", ")}` : "none is due",
  ]);
  const accepted = v.failovers.filter((f) => f.state === "accepted").length;
  const back = v.failovers.filter((f) => f.state === "backed out").length;
  figures.push([
    "Failovers",
    v.failovers.length ? String(v.failovers.length) : "none",
    v.failovers.length ? `${accepted} accepted, ${back} backed out` : "to this site",
  ]);
  return (
    <dl className="grid grid-cols-2 gap-x-4 gap-y-3 border-line border-t px-4 py-3 md:grid-cols-7">
      {figures.map(([name, value, more]) => (
        <div key={name}>
          <dt className="text-muted text-xs">{name}</dt>
          <dd className="font-bold text-lg">{value}</dd>
          <dd className="text-muted text-xs">{more}</dd>
        </div>
      ))}
    </dl>
  );
}

function series(days: Day[], name: string, unit: Schemas["Series"]["unit"], of: (d: Day) => number): Schemas["Series"] {
  const values = days.map((d) => ({ at: d.at, mean: of(d), least: of(d), most: of(d), sum: of(d) }));
  return { name, unit, stepSeconds: 86400, values };
}

function Drawings({ v }: { v: Report }) {
  const days = v.days;
  if (!days.length) return null;
  const at = { from: v.from, to: v.to };
  const stores = v.stores.filter((s) => s.days.length > 1);
  return (
    <Card title="By days" aside="of UTC">
      <div className="grid gap-x-5 gap-y-4 px-3 py-3 md:grid-cols-2">
        <Plot
          title="Over the target"
          tone="over"
          series={[series(days, "over", "seconds", (d) => d.overSeconds)]}
          {...at}
        />
        <Plot
          title="Failed, and missed"
          tone="over"
          series={[
            series(days, "failed", "cycles", (d) => d.failed),
            series(days, "missed", "cycles", (d) => d.missed),
          ]}
          {...at}
        />
        <Plot
          title="Changed, and sent of it"
          series={[
            series(days, "changed", "bytes", (d) => d.changedBytes),
            series(days, "sent", "bytes", (d) => d.wireBytes),
          ]}
          {...at}
        />
        {stores.map((s) => (
          <Plot
            key={s.name}
            title={`Used of ${s.name}`}
            series={[
              {
                name: "used",
                unit: "bytes",
                stepSeconds: Math.max(900, step(s.days)),
                values: s.days,
              },
            ]}
            {...at}
          />
        ))}
      </div>
    </Card>
  );
}

/** step is how far values lie apart, at the least. */
function step(values: Schemas["Measured"][]): number {
  let least = 86400;
  for (let i = 1; i < values.length; i++)
    least = Math.min(least, (Date.parse(values[i]?.at ?? "") - Date.parse(values[i - 1]?.at ?? "")) / 1000);
  return least;
}
