import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { api, ask, type Group } from "../api";
import { asks } from "../asks";
import { when } from "../format";
import { Card, When } from "../ui";
import type { Mark } from "../water";

/** useMarks gives what people changed of a group, and what went wrong with it, over a time. */
export function useMarks(g: Group, back: number): Mark[] {
  const from = () => new Date(Date.now() - back * 1000).toISOString();
  const lines = useQuery({
    ...changes(g),
    select: (all) => all.filter((l) => l.object === g.id && l.actor === "person"),
  });
  const open = useQuery(asks.alerts).data ?? [];
  const over = useQuery({
    queryKey: ["alerts", "cleared", g.id, back],
    queryFn: () => ask(api.GET("/alerts", { params: { query: { state: "cleared", from: from() } } })),
    refetchInterval: 60_000,
  });
  const about = [...open, ...(over.data ?? [])].filter((a) => a.thingId === g.id || a.members.includes(g.name));
  return [
    ...about.map((a) => ({
      at: a.since,
      text: `${a.name}: ${a.kind}${a.clearedAt ? `, until ${when(a.clearedAt)}` : ", still so"}`,
      incident: true,
    })),
    ...(lines.data ?? []).map((l) => ({ at: l.at, text: l.text, incident: false })),
  ];
}

const changes = (g: Group) => ({
  queryKey: ["activity", "group", g.id, g.name],
  queryFn: () => ask(api.GET("/activity", { params: { query: { q: g.name, kind: "group", limit: 200 } } })),
  refetchInterval: 30_000,
});

/** ChangesCard tells who changed what of a group, the newest first. */
export function ChangesCard({ g }: { g: Group }) {
  const q = useQuery({ ...changes(g), select: (all) => all.filter((l) => l.object === g.id) });
  const lines = q.data?.slice(0, 6) ?? [];
  if (!lines.length) return null;
  return (
    <Card
      title="What was changed"
      aside={
        <Link to={`/activity?kind=group&q=${encodeURIComponent(g.name)}`} className="font-semibold text-link">
          all of it
        </Link>
      }
    >
      <ul>
        {lines.map((l) => (
          <li
            key={l.id}
            className="grid grid-cols-[104px_minmax(0,1fr)] gap-x-3 border-line border-t px-4 py-2 first:border-t-0"
          >
            <span className="text-muted">
              <When at={l.at} />
            </span>
            <span className="break-words">{l.text}</span>
          </li>
        ))}
      </ul>
    </Card>
  );
}
