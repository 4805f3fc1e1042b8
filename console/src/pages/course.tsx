import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useAddress } from "../address";
import { api, ask, type Schemas } from "../api";
import { every, Plot } from "../plot";
import { Card, Empty, Fault } from "../ui";

type Of = { kind: "group" | "link"; id: string } | { kind: "store" };

const spans: [string, number][] = [
  ["6 h", 6 / 24],
  ["24 h", 1],
  ["7 d", 7],
  ["30 d", 30],
  ["1 y", 365],
];

// What is drawn together, with its title; what has no values in a time is left out.
const drawings: [string, string[], "over"?][] = [
  ["Backlog", ["backlog"]],
  ["Changed, and sent of it", ["changed", "sent"]],
  ["Length of cycles", ["cycle length"]],
  ["Waited for its turn", ["waited"]],
  ["Cycles that failed, and starts that were missed", ["failed", "missed"], "over"],
  ["Across the link", ["out", "in"]],
  ["Used of the point store", ["used"]],
  ["Room left for it", ["free"]],
  ["Used of the long-term store", ["long-term used"]],
  ["Room left for that", ["long-term free"]],
];

function get(of: Of, from: string): Promise<Schemas["Measures"]> {
  const query = { from };
  switch (of.kind) {
    case "group":
      return ask(api.GET("/groups/{id}/measures", { params: { path: { id: of.id }, query } }));
    case "link":
      return ask(api.GET("/links/{id}/measures", { params: { path: { id: of.id }, query } }));
    default:
      return ask(api.GET("/store/measures", { params: { query } }));
  }
}

/** useDays is the time that is chosen, in days. */
export function useDays(): number {
  const [param] = useAddress();
  return spans.find(([text]) => text.replace(" ", "") === param("over"))?.[1] ?? 1;
}

/** Course shows how something went over a time that is chosen. */
export function Course({ of, title = "Over time" }: { of: Of; title?: string }) {
  const [, set] = useAddress();
  const days = useDays();
  const q = useQuery({
    queryKey: ["measures", of, days],
    queryFn: () => get(of, new Date(Date.now() - days * 86400_000).toISOString()),
    refetchInterval: 60_000,
    placeholderData: keepPreviousData,
  });
  const v = q.data;
  const of_ = (names: string[]) => v?.series.filter((s) => names.includes(s.name)) ?? [];
  const shown = drawings.filter(([, names, tone]) => {
    const some = of_(names);
    // Nothing failed: that is told by there being no drawing of it.
    return some.length > 0 && (tone !== "over" || some.some((s) => s.values.some((x) => x.most > 0)));
  });
  return (
    <Card
      title={title}
      aside={
        <span className="flex flex-wrap items-baseline gap-x-3">
          {v && <span>{every(v.stepSeconds)}</span>}
          <span className="flex gap-1">
            {spans.map(([text, d]) => (
              <button
                type="button"
                key={text}
                aria-pressed={days === d}
                className={`cursor-pointer rounded px-1.5 py-0.5 ${days === d ? "bg-still-bg font-semibold text-ink" : "hover:text-ink"}`}
                onClick={() => set({ over: d === 1 ? "" : text.replace(" ", "") })}
              >
                {text}
              </button>
            ))}
          </span>
        </span>
      }
    >
      <Fault of={q.error} />
      {v && shown.length === 0 && (
        <Empty>Nothing was measured in that time yet; values come with each quarter of an hour.</Empty>
      )}
      {v && shown.length > 0 && (
        <div className={`grid gap-x-5 gap-y-4 px-3 py-3 ${of.kind === "group" ? "md:grid-cols-2" : ""}`}>
          {shown.map(([text, names, tone]) => (
            <Plot key={text} title={text} series={sorted(of_(names), names)} from={v.from} to={v.to} tone={tone} />
          ))}
        </div>
      )}
    </Card>
  );
}

const sorted = (all: Schemas["Series"][], names: string[]) =>
  all.toSorted((a, b) => names.indexOf(a.name) - names.indexOf(b.name));
