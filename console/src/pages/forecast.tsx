import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, ask, type Schemas } from "../api";
import { asks } from "../asks";
import { count, rate, size, span, when } from "../format";
import { useSettled } from "../settled";
import { Button, Card, Empty, Fault, inputLook, Page, td, th } from "../ui";

type Forecast = Schemas["SiteForecast"];
type If = { hours: number; rates: Record<string, string>; away: Record<string, string> };

/** bodyOf asks what was typed; a share is of what the link carries now. */
function bodyOf(x: If): Schemas["SiteForecastRequest"] {
  const rates = Object.entries(x.rates)
    .filter(([, v]) => v !== "")
    .map(([link, v]) => ({ link, percent: Number(v) }));
  const away = Object.entries(x.away)
    .filter(([, v]) => v !== "")
    .map(([site, v]) => ({ site, seconds: Number(v) }));
  return { hours: x.hours, rates: rates.length ? rates : undefined, away: away.length ? away : undefined };
}

/** ForecastPage says how all groups fare in the days to come, or would if. */
export function ForecastPage() {
  const [x, setX] = useState<If>({ hours: 168, rates: {}, away: {} });
  const body = useSettled(JSON.stringify(bodyOf(x)));
  const links = useQuery(asks.links);
  const q = useQuery({
    queryKey: ["forecast-site", body],
    queryFn: () => ask(api.POST("/forecast/site", { body: JSON.parse(body) })),
    placeholderData: keepPreviousData,
    staleTime: 30_000,
    retry: false,
  });
  const supposing = Object.values(x.rates).some(Boolean) || Object.values(x.away).some(Boolean);
  return (
    <Page
      title="Forecast"
      actions={
        <>
          {supposing && <Button onClick={() => setX({ ...x, rates: {}, away: {} })}>As it is</Button>}
          <select
            aria-label="How far"
            className={`${inputLook} w-auto`}
            value={x.hours}
            onChange={(e) => setX({ ...x, hours: Number(e.target.value) })}
          >
            {[6, 24, 72, 168, 336, 744].map((h) => (
              <option key={h} value={h}>
                {h < 24 ? `${h} hours` : h === 24 ? "a day" : `${h / 24} days`}
              </option>
            ))}
          </select>
        </>
      }
    >
      <Fault of={q.error} />
      {q.data && <Verdict f={q.data} supposing={supposing} />}
      <Card title="What if" aside="nothing is changed by asking">
        <table className="w-full">
          <thead>
            <tr>
              <th className={th}>Link to</th>
              <th className={th}>carried</th>
              <th className={th}>could not be reached, from now on, for</th>
            </tr>
          </thead>
          <tbody>
            {links.data?.map((l) => (
              <tr key={l.id} className="border-line border-t">
                <td className={`${td} font-semibold`}>{l.peer}</td>
                <td className={td}>
                  <select
                    aria-label={`What if the link to ${l.peer} carried`}
                    className={`${inputLook} w-auto`}
                    disabled={!l.limitNowBytesPerSecond}
                    value={x.rates[l.peer] ?? ""}
                    onChange={(e) => setX({ ...x, rates: { ...x.rates, [l.peer]: e.target.value } })}
                  >
                    <option value="">
                      {l.limitNowBytesPerSecond ? `as now, ${rate(l.limitNowBytesPerSecond)}` : "no limit is set"}
                    </option>
                    <option value="25">a quarter of it</option>
                    <option value="50">half of it</option>
                    <option value="200">twice as much</option>
                    <option value="400">four times as much</option>
                  </select>
                </td>
                <td className={td}>
                  <select
                    aria-label={`What if ${l.peer} could not be reached for`}
                    className={`${inputLook} w-auto`}
                    value={x.away[l.peer] ?? ""}
                    onChange={(e) => setX({ ...x, away: { ...x.away, [l.peer]: e.target.value } })}
                  >
                    <option value="">not at all</option>
                    <option value="3600">an hour</option>
                    <option value="21600">six hours</option>
                    <option value="86400">a day</option>
                    <option value="172800">two days</option>
                  </select>
                </td>
              </tr>
            ))}
          </tbody>
        </table>
        {links.data?.length === 0 && <Empty>No site is paired yet.</Empty>}
      </Card>
      {q.data && <Groups f={q.data} />}
      {q.data?.links.map((l) => (
        <LinkCard key={l.id} l={l} from={q.data.madeAt} />
      ))}
    </Page>
  );
}

function Verdict({ f, supposing }: { f: Forecast; supposing: boolean }) {
  const missing = f.groups.filter((g) => g.misses).length;
  const briefly = missing ? [] : f.groups.filter((g) => g.briefly);
  return (
    <div
      role="status"
      className={`grid gap-1 rounded-md px-3 py-2 ${missing ? "bg-over-bg text-over-ink" : briefly.length ? "bg-tight-bg text-tight-ink" : "bg-good-bg text-good-ink"}`}
    >
      <div className="font-semibold">
        {missing
          ? `✕ ${count(missing, "group")} ${supposing ? "would miss" : "will miss"} ${missing === 1 ? "its target" : "their targets"} until ${when(f.until)}`
          : `${briefly.length ? "◆" : "●"} All groups ${supposing ? "would keep" : "keep"} their targets until ${when(f.until)}${briefly.length ? ", but for moments" : ""}`}
      </div>
      {briefly.map((g) => (
        <div key={g.id}>
          {g.name} is above its {span(g.targetSeconds)} for {(100 - Number(within(g))).toFixed(2)} % of the time,{" "}
          {span(g.worstSeconds)} at worst.
        </div>
      ))}
      {f.notes.map((n) => (
        <div key={n}>{n}</div>
      ))}
      {f.changes.map((c) => (
        <div key={c.text}>
          → {c.text}: {c.fits ? "then all keep their targets" : `then ${count(c.misses, "group")} still would not`}
        </div>
      ))}
      <div className="text-xs">{count(f.cycles, "cycle")} were stepped through, by the scheduler's own decisions.</div>
    </div>
  );
}

/** unknown tells that nothing is known of what a group's cycles ship. */
const unknown = (g: Schemas["GroupForecast"]) => g.changeFrom === "none" && !g.seeding && !g.seedFinishAt;

/** within is the share of time within the target; 100 only if it is all of it. */
const within = (g: Schemas["GroupForecast"]) =>
  g.briefly ? Math.min(99.99, g.within * 100).toFixed(2) : (g.within * 100).toFixed(g.within > 0.9995 ? 0 : 1);

function Groups({ f }: { f: Forecast }) {
  return (
    <Card title="Groups">
      <div className="overflow-x-auto">
        <table className="w-full">
          <thead>
            <tr>
              {["Group", "Target", "Worst", "On average", "Within", "Cycles", "Ships"].map((h) => (
                <th key={h} className={th}>
                  {h}
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {f.groups.map((g) => (
              <tr key={g.id} className="border-line border-t">
                <td className={td}>
                  {g.id === "joined" ? (
                    <span className="font-semibold">{g.name}</span>
                  ) : (
                    <Link to={`/groups/${g.id}`} className="font-semibold text-link">
                      {g.name}
                    </Link>
                  )}
                  <span className="block text-muted text-xs">to {g.link}</span>
                  {g.misses && g.overAt && (
                    <span className="block text-over-ink text-xs">✕ above its target from {when(g.overAt)}</span>
                  )}
                  {g.briefly && <span className="block text-tight-ink text-xs">◆ above its target for moments</span>}
                  {g.paused && (
                    <span className="block text-muted text-xs">‖ paused: exposure grows until it is resumed</span>
                  )}
                  {g.seeding && (
                    <span className="block text-tight-ink text-xs">◌ the first copy is not done by then</span>
                  )}
                  {g.seedFinishAt && (
                    <span className="block text-muted text-xs">first copy done {when(g.seedFinishAt)}</span>
                  )}
                  {g.unknown.map((u) => (
                    <span key={u} className="block text-muted text-xs">
                      ? {u}
                    </span>
                  ))}
                </td>
                <td className={`${td} whitespace-nowrap`}>{span(g.targetSeconds)}</td>
                <td className={`${td} whitespace-nowrap ${g.misses ? "text-over-ink" : ""}`}>{span(g.worstSeconds)}</td>
                <td className={`${td} whitespace-nowrap`}>{span(g.meanSeconds)}</td>
                <td className={`${td} whitespace-nowrap`}>{within(g)} %</td>
                <td className={`${td} whitespace-nowrap`}>
                  {g.cycles}
                  <span className="block text-muted text-xs">
                    {unknown(g) ? "how long each is not known" : `${span(Math.round(g.cycleSeconds))} each`}
                    {g.waitSeconds >= 1 ? `, after waiting ${span(Math.round(g.waitSeconds))}` : ""}
                  </span>
                </td>
                <td className={`${td} whitespace-nowrap`}>
                  {unknown(g) ? <span className="text-muted">not known</span> : size(g.bytes)}
                  {g.changeFrom === "survey" && <span className="block text-muted text-xs">by a survey</span>}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      </div>
      {!f.groups.length && <Empty>No group is home here yet.</Empty>}
    </Card>
  );
}

/** LinkCard draws what crosses a link, hour by hour. */
function LinkCard({ l, from }: { l: Schemas["LinkForecast"]; from: string }) {
  const most = Math.max(1, ...l.hours, l.limited && l.rateBytesPerSecond ? l.rateBytesPerSecond * 3600 : 0);
  const wide = 960;
  const bar = wide / Math.max(1, l.hours.length);
  const limit = l.limited && l.rateBytesPerSecond ? 100 - (100 * l.rateBytesPerSecond * 3600) / most : undefined;
  const last = l.space.at(-1);
  const start = new Date(from).getTime();
  const hours = l.hours.map((b, i) => ({ b, i, at: new Date(start + i * 3_600_000).toISOString() }));
  return (
    <Card
      title={`Link to ${l.peer}`}
      aside={
        <>
          {l.share !== undefined
            ? `used to ${(l.share * 100).toFixed(0)} %, ${((l.busiest ?? 0) * 100).toFixed(0)} % in its busiest hour`
            : "no limit is set, so how full it is cannot be said"}{" "}
          · needs {rate(l.needBytesPerSecond)}
          {l.rateBytesPerSecond ? ` of ${rate(l.rateBytesPerSecond)}` : ""}
        </>
      }
    >
      <div className="grid gap-2 p-4">
        <svg
          viewBox={`0 0 ${wide} 120`}
          className="w-full"
          role="img"
          aria-label={`What crosses the link to ${l.peer}, hour by hour: ${size(l.bytes)} in all`}
        >
          {hours.map(({ at, b, i }) => (
            <rect
              key={at}
              x={i * bar}
              y={100 - (100 * b) / most}
              width={Math.max(0.5, bar - 0.5)}
              height={(100 * b) / most}
              className="fill-water"
            >
              <title>{`${when(at)}: ${size(b)}`}</title>
            </rect>
          ))}
          <line x1={0} x2={wide} y1={100} y2={100} className="stroke-line" />
          {limit !== undefined && (
            <>
              <line x1={0} x2={wide} y1={limit} y2={limit} strokeDasharray="6 4" className="stroke-over" />
              <text x={4} y={limit + 11} className="fill-over-ink text-[10px]">
                what it carries
              </text>
            </>
          )}
          {hours.map(({ at, i }) =>
            i > 0 && i % 24 === 0 ? (
              <text key={at} x={i * bar} y={115} className="fill-muted text-[10px]">
                {i / 24} d
              </text>
            ) : null,
          )}
        </svg>
        <div className={l.fullAt ? "text-over-ink" : "text-muted text-xs"}>
          {last ? `Points there take ${size(last.moreBytes)} more by ${when(last.at)}` : ""}
          {l.freeBytes !== undefined && `; ${size(l.freeBytes)} are free there`}
          {l.fullAt && ` — full by ${when(l.fullAt)}`}
          {last && ", before compression."}
        </div>
      </div>
    </Card>
  );
}
