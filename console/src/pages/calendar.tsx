import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { ChevronLeft, ChevronRight } from "lucide-react";
import { Link } from "react-router";
import { useAddress } from "../address";
import { api, ask, type Schemas } from "../api";
import { asks } from "../asks";
import { clockTime, count, span } from "../format";
import { Button, Card, Empty, Fault, inputLook, Page } from "../ui";

type Start = Schemas["CalendarStart"];

const day = 86_400_000;

const midnight = (t: number) => new Date(t).setHours(0, 0, 0, 0);

/** plus goes on by days of the calendar, over changes of the clock. */
const plus = (t: number, days: number) => {
  const d = new Date(t);
  d.setDate(d.getDate() + days);
  return d.getTime();
};

/** monday is the beginning of a week, and first that of a month. */
const monday = (t: number) => plus(midnight(t), -((new Date(t).getDay() + 6) % 7));
const first = (t: number) => midnight(new Date(t).setDate(1));

const stretches: Record<string, { from: (t: number) => number; next: (t: number, n: number) => number }> = {
  day: { from: midnight, next: plus },
  week: { from: monday, next: (t, n) => plus(t, 7 * n) },
  month: {
    from: first,
    next: (t, n) => {
      const d = new Date(t);
      d.setMonth(d.getMonth() + n);
      return d.getTime();
    },
  },
};

const dayName = new Intl.DateTimeFormat("en-GB", { weekday: "short", day: "numeric", month: "short" });
const monthName = new Intl.DateTimeFormat("en-GB", { month: "long", year: "numeric" });

/** CalendarPage draws when cycles start, and which are in each other's way. */
export function CalendarPage() {
  const [at, set] = useAddress();
  const view = stretches[at("view")] ? at("view") : "week";
  const stretch = stretches[view] as (typeof stretches)[string];
  const from = stretch.from(at("from") ? Date.parse(at("from")) || Date.now() : Date.now());
  const to = stretch.next(from, 1);
  const group = at("group");
  const link = at("link");
  const q = useQuery({
    queryKey: ["calendar", from, to, group, link],
    queryFn: () =>
      ask(
        api.GET("/calendar", {
          params: {
            query: {
              from: new Date(from).toISOString(),
              to: new Date(to).toISOString(),
              group: group || undefined,
              link: link || undefined,
            },
          },
        }),
      ),
    refetchInterval: 60_000,
    placeholderData: keepPreviousData,
  });
  const groups = useQuery(asks.groups);
  const links = useQuery(asks.links);
  const go = (t: number) => set({ from: new Date(t).toISOString() });
  const select = `${inputLook} !w-auto`;
  const starts = q.data?.starts ?? [];
  const clashes = starts.filter((s) => s.clash).length;
  const days: number[] = [];
  for (let t = from; t < to; t = plus(t, 1)) days.push(t);
  return (
    <Page title="Calendar">
      <Fault of={q.error} />
      <Card
        title={
          view === "month"
            ? monthName.format(from)
            : `${dayName.format(from)}${view === "week" ? ` to ${dayName.format(plus(to, -1))}` : ""}`
        }
        aside={
          clashes ? (
            <span className="text-tight-ink">◆ {count(clashes, "start")} in each other's way</span>
          ) : (
            "no clashes"
          )
        }
      >
        <div className="flex flex-wrap items-center gap-2 border-line border-b p-3">
          <Button small onClick={() => go(stretch.next(from, -1))} aria-label={`The ${view} before`}>
            <ChevronLeft className="size-4" />
          </Button>
          <Button small onClick={() => set({ from: "" })}>
            Today
          </Button>
          <Button small onClick={() => go(stretch.next(from, 1))} aria-label={`The ${view} after`}>
            <ChevronRight className="size-4" />
          </Button>
          <select
            aria-label="Stretch of time"
            className={select}
            value={view}
            onChange={(e) => set({ view: e.target.value })}
          >
            <option value="day">Day</option>
            <option value="week">Week</option>
            <option value="month">Month</option>
          </select>
          <select aria-label="Group" className={select} value={group} onChange={(e) => set({ group: e.target.value })}>
            <option value="">All groups</option>
            {groups.data?.map((g) => (
              <option key={g.id} value={g.id}>
                {g.name}
              </option>
            ))}
          </select>
          <select aria-label="Link" className={select} value={link} onChange={(e) => set({ link: e.target.value })}>
            <option value="">All links</option>
            {links.data?.map((l) => (
              <option key={l.id} value={l.id}>
                {l.peer}
              </option>
            ))}
          </select>
        </div>
        {view === "month" ? (
          <Month days={days} starts={starts} onDay={(t) => set({ view: "day", from: new Date(t).toISOString() })} />
        ) : view === "week" ? (
          <Week days={days} starts={starts} />
        ) : (
          <Day starts={starts} />
        )}
      </Card>
      {!!q.data?.steady.length && (
        <Card title="Steady" aside="oftener than hourly, not drawn one by one">
          <ul className="grid gap-1 p-4">
            {q.data.steady.map((s) => (
              <li key={s.group}>
                <Link to={`/groups/${s.group}`} className="font-semibold text-link">
                  {s.groupName}
                </Link>{" "}
                {s.cadence}
                {s.quiet && <span className="text-muted"> · quiet {s.quiet}</span>}
              </li>
            ))}
          </ul>
        </Card>
      )}
      <p className="text-muted text-xs">
        Times are of this browser ({Intl.DateTimeFormat().resolvedOptions().timeZone}). To have it where you keep your
        calendar: <code>kestrel calendar feed NAME</code> makes an address for it.
      </p>
    </Page>
  );
}

const of = (starts: Start[], t: number) => starts.filter((s) => Date.parse(s.at) >= t && Date.parse(s.at) < plus(t, 1));

const said = (s: Start) =>
  [
    s.groupName,
    clockTime(Date.parse(s.at)),
    s.lengthSeconds ? `about ${span(s.lengthSeconds)}` : "",
    s.note ?? "",
    s.clash ? `at the same time: ${s.clash.join(", ")}` : "",
  ]
    .filter(Boolean)
    .join(" · ");

/** Mark is one start as it is drawn. */
function Mark({ s, time }: { s: Start; time?: boolean }) {
  return (
    <Link
      to={`/groups/${s.group}`}
      title={said(s)}
      className={`block truncate rounded border-l-4 px-1.5 py-0.5 text-xs ${
        s.clash ? "border-tight bg-tight-bg text-tight-ink" : "border-water bg-still-bg"
      }`}
    >
      {time && <span className="tabular-nums">{clockTime(Date.parse(s.at)).slice(0, 5)} </span>}
      {s.clash && "◆ "}
      {s.groupName}
      {s.note && " *"}
    </Link>
  );
}

const hourHeight = 26;
const markHeight = 22;

/** place gives starts of a day their heights, so that none lies over another. */
function place(starts: Start[], t: number): { s: Start; top: number }[] {
  let free = 0;
  return starts.map((s) => {
    const top = Math.max(((Date.parse(s.at) - t) / 3_600_000) * hourHeight, free);
    free = top + markHeight;
    return { s, top };
  });
}

function Week({ days, starts }: { days: number[]; starts: Start[] }) {
  const now = Date.now();
  const placed = days.map((t) => place(of(starts, t), t));
  const height = Math.max(24 * hourHeight, ...placed.flat().map((p) => p.top + markHeight));
  return (
    <div className="overflow-x-auto">
      <div className="grid min-w-[760px] grid-cols-[3rem_repeat(7,minmax(0,1fr))]">
        <div />
        {days.map((t) => (
          <div
            key={t}
            className={`border-line border-b border-l px-2 py-1.5 text-xs ${midnight(now) === t ? "font-bold" : "text-muted"}`}
          >
            {dayName.format(t)}
          </div>
        ))}
        <div className="relative text-right text-muted text-xs" style={{ height }}>
          {[0, 3, 6, 9, 12, 15, 18, 21].map((h) => (
            <span key={h} className="absolute right-1.5" style={{ top: h * hourHeight }}>
              {String(h).padStart(2, "0")}:00
            </span>
          ))}
        </div>
        {days.map((t, i) => (
          <div
            key={t}
            className="relative border-line border-l"
            style={{
              height,
              backgroundImage: `repeating-linear-gradient(to bottom, var(--line) 0 1px, transparent 1px ${3 * hourHeight}px)`,
            }}
          >
            {now >= t && now < t + day && (
              <div
                className="absolute inset-x-0 border-over border-t"
                style={{ top: ((now - t) / 3_600_000) * hourHeight }}
                title="Now"
              />
            )}
            {placed[i]?.map(({ s, top }) => (
              <div key={s.at + s.group} className="absolute inset-x-0.5" style={{ top }}>
                <Mark s={s} />
              </div>
            ))}
          </div>
        ))}
      </div>
    </div>
  );
}

const shownADay = 4;

function Month({ days, starts, onDay }: { days: number[]; starts: Start[]; onDay: (t: number) => void }) {
  const head = days[0] ? (new Date(days[0]).getDay() + 6) % 7 : 0;
  return (
    <div className="overflow-x-auto">
      <div className="grid min-w-[760px] grid-cols-7">
        {Array.from({ length: head }, (_, i) => (
          // biome-ignore lint/suspicious/noArrayIndexKey: days before the month have nothing of their own
          <div key={i} className="border-line border-r border-b bg-ground" />
        ))}
        {days.map((t) => {
          const mine = of(starts, t);
          return (
            <div key={t} className="min-h-24 border-line border-r border-b p-1">
              <button
                type="button"
                className={`mb-0.5 cursor-pointer text-xs ${midnight(Date.now()) === t ? "font-bold text-link" : "text-muted"}`}
                onClick={() => onDay(t)}
              >
                {dayName.format(t)}
              </button>
              <div className="grid gap-0.5">
                {mine.slice(0, shownADay).map((s) => (
                  <Mark key={s.at + s.group} s={s} time />
                ))}
                {mine.length > shownADay && (
                  <button type="button" className="cursor-pointer text-left text-link text-xs" onClick={() => onDay(t)}>
                    {mine.length - shownADay} more
                  </button>
                )}
              </div>
            </div>
          );
        })}
      </div>
    </div>
  );
}

function Day({ starts }: { starts: Start[] }) {
  if (!starts.length) return <Empty>No start is foretold for this day, but for what is steady.</Empty>;
  return (
    <ul className="grid gap-1 p-4">
      {starts.map((s) => (
        <li key={s.at + s.group} className="grid grid-cols-[4.5rem_12rem_minmax(0,1fr)] gap-3">
          <span className="tabular-nums">{clockTime(Date.parse(s.at))}</span>
          <Mark s={s} />
          <span className="text-muted text-xs">
            {[
              s.lengthSeconds ? `about ${span(s.lengthSeconds)}` : "",
              s.note ?? "",
              s.clash ? `at the same time: ${s.clash.join(", ")}` : "",
            ]
              .filter(Boolean)
              .join(" · ")}
          </span>
        </li>
      ))}
    </ul>
  );
}
