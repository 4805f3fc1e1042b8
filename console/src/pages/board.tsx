import { useQuery } from "@tanstack/react-query";
import { Link, useNavigate } from "react-router";
import { useAddress } from "../address";
import { type Group, type Schemas, useNow } from "../api";
import { asks, useMay } from "../asks";
import { count, rate, size, span, when } from "../format";
import { Bar, Button, Card, Empty, Fault, State } from "../ui";
import { Strip } from "../water";
import { Figures, Happened } from "./figures";

const tones: Record<string, string> = { over: "text-over-ink", tight: "text-tight-ink", good: "", plain: "" };

export function SeedLine({ r }: { r: Schemas["Progress"] }) {
  const share = r.totalBytes ? r.readBytes / r.totalBytes : 0;
  return (
    <div className="grid gap-1.5 text-seeding text-xs">
      <Bar share={share} label="First copy" tone="bg-seeding" />
      <span>
        {size(r.readBytes)} of {size(r.totalBytes)}
        {r.bytesPerSecond > 0 && ` · ${rate(r.bytesPerSecond)}`}
        {r.finishAt && ` · done about ${when(r.finishAt)}`}
      </span>
    </div>
  );
}

const way = (g: Group) =>
  `${count(g.machines.length, "machine")} ${g.direction === "in" ? `← ${g.home}` : `→ ${g.recovery}`}`;

function Row({ x, age }: { x: Schemas["BoardGroup"]; age: number }) {
  const g = x.group;
  const exposure = g.exposureSeconds === undefined ? undefined : g.exposureSeconds + age;
  const tone = g.health === "over" ? "text-over-ink" : g.health === "tight" ? "text-tight-ink" : "";
  return (
    <li className="relative grid grid-cols-[minmax(0,1fr)_auto] items-center gap-x-4 gap-y-2 border-line border-t px-4 py-2 first:border-t-0 hover:bg-still-bg/40 md:grid-cols-[150px_minmax(0,1fr)_104px_96px]">
      <div className="min-w-0">
        <Link to={`/groups/${g.id}`} className="block truncate font-semibold after:absolute after:inset-0">
          {g.name}
        </Link>
        <div className="truncate text-muted text-xs">{way(g)}</div>
      </div>
      <div className="order-last col-span-2 md:order-none md:col-span-1">
        {g.exposureSeconds === undefined && g.running ? (
          <SeedLine r={g.running} />
        ) : g.exposureSeconds === undefined ? (
          <span className="text-muted text-xs">{g.reasons[0] ?? "the first copy has not begun"}</span>
        ) : (
          <Strip
            vertices={x.strip}
            from={x.stripFrom}
            to={x.stripTo}
            target={g.promise.rpoTargetSeconds}
            label={`Exposure of ${g.name}: ${span(exposure)} of ${span(g.promise.rpoTargetSeconds)}`}
          />
        )}
      </div>
      <div className="hidden text-right md:block">
        <div className={`font-semibold ${tone}`}>{span(exposure)}</div>
        <div className="text-muted text-xs">
          {g.turned
            ? "not copied now"
            : exposure === undefined
              ? "first copy"
              : `of ${span(g.promise.rpoTargetSeconds)}`}
        </div>
      </div>
      <div className="justify-self-end text-right md:justify-self-start">
        <State of={g.health} />
        <div className={`text-xs md:hidden ${tone}`}>
          {span(exposure)} of {span(g.promise.rpoTargetSeconds)}
        </div>
      </div>
    </li>
  );
}

/** How many groups are drawn at first, and how many at most; the Groups page lists all. */
const step = 60;
const most = 480;

export function BoardPage() {
  const go = useNavigate();
  const may = useMay();
  const [at, set] = useAddress();
  const shown = Math.min(most, Math.max(step, Number(at("show")) || step));
  const q = useQuery(asks.board(shown));
  const now = useNow();
  if (q.error) return <Fault of={q.error} />;
  const b = q.data;
  if (!b) return null;
  const age = Math.max(0, Math.min(15, (now - q.dataUpdatedAt) / 1000));
  return (
    <div className="grid grid-cols-[minmax(0,1fr)] gap-4">
      <header>
        <h1 className="max-w-[62rem] font-semibold text-[21px] leading-snug">
          {b.headline.map((p) => (
            <span key={p.text} className={tones[p.tone]}>
              {p.text}{" "}
            </span>
          ))}
        </h1>
        {b.dark && <p className="mt-1 text-muted">{b.dark}</p>}
      </header>
      <Happened />
      <div className="grid items-start gap-4 xl:grid-cols-[minmax(0,1fr)_290px]">
        <Card title="Exposure, up to 6 hours back" aside="water = what would be lost · dashed mark = RPO target">
          {b.groups.length ? (
            <>
              <ul>
                {b.groups.map((x) => (
                  <Row key={x.group.id} x={x} age={age} />
                ))}
              </ul>
              {b.total > b.groups.length && (
                <div className="flex items-center gap-3 border-line border-t px-4 py-2 text-muted text-xs">
                  <span>
                    The first {b.groups.length} of {b.total} groups, worst first.
                  </span>
                  {shown < most && (
                    <Button small onClick={() => set({ show: String(Math.min(most, shown + 2 * step)) })}>
                      Draw more
                    </Button>
                  )}
                  <Link to="/groups" className="font-semibold text-link">
                    All groups →
                  </Link>
                </div>
              )}
            </>
          ) : b.links.length ? (
            <Empty
              action={
                may.administer && (
                  <Button kind="main" onClick={() => go("/groups/new")}>
                    Make a protection group
                  </Button>
                )
              }
            >
              Put machines that belong together into a group; its exposure then shows here.
            </Empty>
          ) : (
            <Empty
              action={
                may.administer && (
                  <Button kind="main" onClick={() => go("/sites")}>
                    Pair with another site
                  </Button>
                )
              }
            >
              Points are kept at another site. Pair this one with it first, then add a platform and make a group.
            </Empty>
          )}
        </Card>
        <div className="grid gap-4">
          <Card title="Needs you">
            {b.needs.length ? (
              <ul>
                {b.needs.map((n) => (
                  <li key={n.title} className="border-line border-t px-4 py-2.5 first:border-t-0">
                    <div className="font-semibold">{n.title}</div>
                    <div className="text-muted text-xs">{n.text}</div>
                    <Link to={n.href} className="font-semibold text-link text-xs">
                      {n.action} →
                    </Link>
                  </li>
                ))}
                {b.needsTotal > b.needs.length && (
                  <li className="border-line border-t px-4 py-2.5 text-muted text-xs">
                    And {count(b.needsTotal - b.needs.length, "more matter")}:{" "}
                    <Link to="/alerts" className="font-semibold text-link">
                      alerts →
                    </Link>
                  </li>
                )}
              </ul>
            ) : (
              <p className="px-4 py-3 text-muted">Nothing. All is as promised.</p>
            )}
          </Card>
          <Card title="Links">
            <ul>
              {b.links.map((l) => (
                <li key={l.id} className="border-line border-t px-4 py-2.5 first:border-t-0">
                  <div className="flex items-center justify-between gap-2">
                    <Link to="/sites" className="font-semibold">
                      {b.site} ↔ {l.peer}
                    </Link>
                    <State of={l.health?.word ?? (l.up ? "up" : "down")} />
                  </div>
                  <div className="mt-0.5 text-muted text-xs">
                    out {rate(l.sendBytesPerSecond)} · in {rate(l.receiveBytesPerSecond)}
                    {l.rttMillis !== undefined && ` · ${l.rttMillis.toFixed(1)} ms`}
                  </div>
                </li>
              ))}
              {!b.links.length && <li className="px-4 py-3 text-muted">No other site is paired yet.</li>}
            </ul>
          </Card>
        </div>
      </div>
      <Figures />
    </div>
  );
}
