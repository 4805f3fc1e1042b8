import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { useForm } from "react-hook-form";
import { Link, useNavigate, useParams } from "react-router";
import { useDialog } from "../address";
import { api, ask, type Cycle, type Group, type Schemas, useNow } from "../api";
import { asks, useMay } from "../asks";
import { ConfirmDialog } from "../dialog";
import { count, millis, rate, rungText, size, span, when } from "../format";
import { Rail } from "../rail";
import { Bar, Button, Card, Empty, Fault, Page, State, td, th, When } from "../ui";
import { Chart } from "../water";
import { Foretold } from "./beside";
import { Carried } from "./carried";
import { ChangesCard, useMarks } from "./changes";
import { Course, useDays } from "./course";
import { DrillDialog } from "./drilldialog";
import { FailoverDialog, FormerDialog, RemoveFormerDialog } from "./failoverdialog";
import { CopyToDialog, PauseDialog } from "./holding";
import { GroupReadiness } from "./readiness";

const ranges: [string, number][] = [
  ["15 min", 900],
  ["1 h", 3600],
  ["6 h", 21600],
  ["24 h", 86400],
  ["7 d", 604800],
  ["30 d", 2592000],
];

export function GroupPage() {
  const { id = "" } = useParams();
  const qc = useQueryClient();
  const now = useNow();
  const q = useQuery({
    queryKey: ["group", id],
    queryFn: () => ask(api.GET("/groups/{id}", { params: { path: { id } } })),
    refetchInterval: 3000,
  });
  const dialog = useDialog<"pause" | "delete" | "drill" | "failover" | "former" | "remove" | "copy-to">();
  const may = useMay();
  const links = useQuery(asks.links);
  const act = useMutation({
    mutationFn: (what: "run" | "compare" | "resume" | "keep") =>
      what === "keep"
        ? ask(api.DELETE("/groups/{id}/deletion", { params: { path: { id } } }))
        : what === "run" || what === "compare"
          ? ask(
              api.POST("/groups/{id}/run", {
                params: { path: { id }, query: { compare: what === "compare" || undefined } },
              }),
            )
          : ask(api.POST("/groups/{id}/resume", { params: { path: { id } } })),
    onSuccess: (g) => qc.setQueryData(["group", id], g),
  });
  const g = q.data;
  const days = useDays();
  if (q.error) return <Fault of={q.error} />;
  if (!g) return null;
  const age = Math.max(0, Math.min(15, (now - q.dataUpdatedAt) / 1000));
  const exposure = g.exposureSeconds === undefined ? undefined : g.exposureSeconds + age;
  const ended = g.direction === "ended";
  return (
    <Page
      crumbs={
        <>
          <Link to="/groups">Groups</Link> / {g.home} → {g.recovery}
        </>
      }
      title={
        <>
          {g.name}
          <State of={ended ? "ended" : g.health}>
            {exposure !== undefined && !ended && (
              <span>
                · would lose {span(exposure)} of {span(g.promise.rpoTargetSeconds)}
              </span>
            )}
          </State>
        </>
      }
      actions={
        <>
          {g.deletion && may.operate && (
            <Button kind="main" disabled={act.isPending} onClick={() => act.mutate("keep")}>
              Keep the points
            </Button>
          )}
          {!ended && (
            <Link
              to={`/groups/${g.id}/berth`}
              className="rounded-md border border-line bg-card px-3 py-1.5 font-semibold text-[13px] hover:border-muted"
            >
              Berth
            </Link>
          )}
          {g.direction !== "out" && !g.turned && g.points > 0 && may.operate && (
            <>
              <Button kind="main" onClick={() => dialog.open("drill")}>
                Drill…
              </Button>
              <Button onClick={() => dialog.open("failover")}>Failover…</Button>
            </>
          )}
          {g.turned === "held" && (
            <Link
              to={`/failovers/${g.id}`}
              className="rounded-md border border-line bg-card px-3 py-1.5 font-semibold text-[13px] hover:border-muted"
            >
              Its failover
            </Link>
          )}
          {g.runsHere && may.operate && (
            <Button kind="danger" onClick={() => dialog.open("former")}>
              Shut down those here…
            </Button>
          )}
          {g.former && !g.runsHere && !g.turned && may.administer && (
            <Button kind="danger" onClick={() => dialog.open("remove")}>
              Remove the old machines…
            </Button>
          )}
          {!ended && !g.turned && may.operate && (
            <>
              <Button disabled={g.paused || !!g.running || act.isPending} onClick={() => act.mutate("run")}>
                Run a cycle now
              </Button>
              <Button
                disabled={g.paused || !!g.running || !g.points || act.isPending}
                title={`Reads all of the disks at ${g.home}, to find what changed without the platform's reporting it.`}
                onClick={() => act.mutate("compare")}
              >
                Compare
              </Button>
              <Button disabled={act.isPending} onClick={() => (g.paused ? act.mutate("resume") : dialog.open("pause"))}>
                {g.paused ? "Resume" : "Pause…"}
              </Button>
              {g.direction === "out" && may.administer && (
                <Link
                  to={`/groups/${g.id}/edit`}
                  className="rounded-md border border-line bg-card px-3 py-1.5 font-semibold text-[13px] hover:border-muted"
                >
                  Edit
                </Link>
              )}
              {g.direction === "out" && may.administer && (links.data?.length ?? 0) > 1 && (
                <Button onClick={() => dialog.open("copy-to")}>Copy elsewhere…</Button>
              )}
            </>
          )}
          {may.administer && !g.turned && (
            <Button kind="danger" onClick={() => dialog.open("delete")}>
              Delete…
            </Button>
          )}
        </>
      }
    >
      <Fault of={act.error} />
      {g.reasons.length > 0 && (
        <p
          className={`rounded-md border px-3 py-2 ${["over", "stalled", "cut off"].includes(g.health) || g.deletion || g.runsHere ? "border-over bg-over-bg text-over-ink" : g.health === "tight" || g.turned ? "border-tight bg-tight-bg text-tight-ink" : "border-line bg-card"}`}
        >
          {g.reasons.join(" ")}
          {g.cause?.mend && <span className="block opacity-80">{g.cause.mend}</span>}
          {g.since && g.health !== "on target" && (
            <span className="block text-xs opacity-80">
              So since <When at={g.since} />.
            </span>
          )}
        </p>
      )}
      <div className="grid items-start gap-4 xl:grid-cols-[minmax(0,1fr)_300px]">
        <div className="grid min-w-0 gap-4">
          <ExposureCard g={g} />
          <PointsCard g={g} now={now} />
          {!ended && <Course of={{ kind: "group", id: g.id }} />}
          {!ended && <Carried id={g.id} days={days} />}
          <GroupReadiness id={g.id} />
          <MachinesCard g={g} />
          <ChangesCard g={g} />
        </div>
        <div className="grid gap-4">
          {g.running && <RunningCard g={g} />}
          <PromiseCard g={g} />
          <CycleCard g={g} />
          {g.direction === "out" && <Foretold id={g.id} />}
        </div>
      </div>
      {dialog.name === "pause" && <PauseDialog groups={[g]} onClose={dialog.close} />}
      {dialog.name === "copy-to" && <CopyToDialog g={g} onClose={dialog.close} />}
      {dialog.name === "drill" && <DrillDialog g={g} onClose={dialog.close} />}
      {dialog.name === "failover" && <FailoverDialog g={g} onClose={dialog.close} />}
      {dialog.name === "remove" && <RemoveFormerDialog g={g} onClose={dialog.close} />}
      {dialog.name === "former" && <FormerDialog g={g} onClose={dialog.close} />}
      {dialog.name === "delete" && <DeleteDialog g={g} onClose={dialog.close} />}
    </Page>
  );
}

function ExposureCard({ g }: { g: Group }) {
  const life = (Date.now() - Date.parse(g.createdAt)) / 1000;
  const [back, setBack] = useState(() => ranges.find(([, s]) => s >= Math.min(life, 21600))?.[1] ?? 86400);
  const q = useQuery({
    queryKey: ["exposure", g.id, back],
    queryFn: () =>
      ask(
        api.GET("/groups/{id}/exposure", {
          params: { path: { id: g.id }, query: { from: new Date(Date.now() - back * 1000).toISOString() } },
        }),
      ),
    refetchInterval: back <= 3600 ? 2000 : 10_000,
    placeholderData: (d) => d,
  });
  const e = q.data;
  const marks = useMarks(g, back);
  return (
    <Card
      title="Exposure"
      aside={
        <span className="flex flex-wrap items-baseline gap-x-3">
          {e && e.vertices.length > 0 && (
            <span>
              kept its target {(e.keptShare * 100).toFixed(e.keptShare > 0.999 && e.keptShare < 1 ? 2 : 1)} % of the
              time · worst {span(e.worstSeconds)} at {when(e.worstAt)}
            </span>
          )}
          <span className="flex gap-1">
            {ranges.map(([text, s]) => (
              <button
                type="button"
                key={s}
                aria-pressed={back === s}
                className={`cursor-pointer rounded px-1.5 py-0.5 ${back === s ? "bg-still-bg font-semibold text-ink" : "hover:text-ink"}`}
                onClick={() => setBack(s)}
              >
                {text}
              </button>
            ))}
          </span>
        </span>
      }
    >
      <div className="min-h-[200px] px-3 pt-2 pb-1">
        {e?.vertices.length ? (
          <Chart
            vertices={e.vertices}
            from={e.from}
            to={e.to}
            target={e.targetSeconds}
            targets={e.targets}
            marks={marks}
            label={`Exposure of ${g.name}: kept its target ${(e.keptShare * 100).toFixed(1)} % of the time, worst ${span(e.worstSeconds)}`}
          />
        ) : (
          e && <Empty>The curve begins when the first copy is sealed.</Empty>
        )}
        <Fault of={q.error} />
      </div>
    </Card>
  );
}

function PointsCard({ g, now }: { g: Group; now: number }) {
  const [selected, select] = useState<string>();
  const q = useQuery({
    queryKey: ["points", g.id],
    queryFn: () => ask(api.GET("/points", { params: { query: { group: g.id } } })),
    refetchInterval: 15_000,
  });
  // What is kept at home besides is in the list of points.
  // Those at the site that it would be recovered at.
  const ps = (q.data ?? []).filter((p) => p.held === (g.direction !== "out"));
  const oldest = ps[ps.length - 1];
  return (
    <Card
      title="Recovery points"
      aside={
        ps.length ? (
          <>
            {ps.length} held{oldest && ` · back to ${when(oldest.captureAt)}`} · ◆ pinned · ▲ application-consistent · ✓
            proved by a drill ·{" "}
            <Link to={`/points?group=${g.id}`} className="font-semibold text-link">
              list
            </Link>
          </>
        ) : undefined
      }
    >
      {ps.length ? (
        <Rail points={ps} keep={g.promise.keep} now={now} selected={selected} onSelect={select} />
      ) : (
        <Empty>No point is sealed yet.</Empty>
      )}
    </Card>
  );
}

/** Quiet says how a machine was brought to rest, and what it cost its guest. */
function Quiet({ m }: { m: Schemas["GroupMachine"] }) {
  const q = m.lastQuiet;
  const bad = m.restFailures ? ` · not at rest at ${m.restFailures} of the last ${m.restTries}` : "";
  if (!q) return <span className="text-muted">{m.quiesce ? "file systems to be brought to rest" : "—"}</span>;
  if (q.after) return <span className="text-tight-ink">◆ {q.after}</span>;
  const held = `held ${q.heldMillis.toFixed(0)} ms`;
  if (q.done)
    return (
      <span>
        ▲ file systems at rest{" "}
        <span className="text-muted text-xs">
          {held}
          {bad}
        </span>
      </span>
    );
  if (q.why)
    return (
      <span>
        <span className="text-tight-ink">◆ file systems not at rest: {q.why}</span>{" "}
        <span className="text-muted text-xs">
          {held}
          {bad}
        </span>
      </span>
    );
  return <span className="text-muted">{held}</span>;
}

/** DisksOf counts the disks that are copied, and names those that are not. */
function DisksOf({ m }: { m: Schemas["GroupMachine"] }) {
  const left = m.disks.filter((d) => d.leftOut);
  const open = m.disks.filter((d) => d.undecided);
  return (
    <>
      {count(m.disks.length - left.length - open.length, "disk")} · {size(m.sizeBytes)}
      {left.length > 0 && (
        <span className="block text-muted text-xs">left out: {left.map((d) => d.label).join(", ")}</span>
      )}
      {open.length > 0 && (
        <span className="block text-tight-ink text-xs">
          ◆ new, not copied until somebody decides: {open.map((d) => d.label).join(", ")}
        </span>
      )}
    </>
  );
}

function MachinesCard({ g }: { g: Group }) {
  const quiet = g.machines.some((m) => m.quiesce || m.lastQuiet);
  return (
    <Card
      title="Machines"
      aside={
        g.machines.length < 2
          ? undefined
          : g.together
            ? "captured together, one instant"
            : "◆ each captured at its own instant"
      }
    >
      {g.rule && (
        <p className="border-line border-b px-4 py-2 text-muted">
          Machines join by the rule <strong className="text-ink">{g.rule.match}</strong> (order {g.rule.order}).
        </p>
      )}
      <div className="overflow-x-auto">
        <table className="w-full">
          <thead>
            <tr>
              <th className={th}>Machine</th>
              <th className={th}>Disks</th>
              <th className={`${th} text-right`}>Used</th>
              <th className={`${th} text-right`}>Backlog</th>
              {quiet && <th className={th}>At the last capture</th>}
            </tr>
          </thead>
          <tbody>
            {g.machines.map((m) => (
              <tr key={m.id} className="border-line border-t">
                <td className={td}>
                  <span className="font-semibold">{m.name}</span>
                  {m.byRule && <span className="block text-muted text-xs">by rule</span>}
                </td>
                <td className={td}>
                  <DisksOf m={m} />
                </td>
                <td className={`${td} text-right`}>{size(m.usedBytes)}</td>
                <td className={`${td} text-right`}>{size(m.backlogBytes)}</td>
                {quiet && (
                  <td className={td}>
                    <Quiet m={m} />
                  </td>
                )}
              </tr>
            ))}
          </tbody>
        </table>
      </div>
    </Card>
  );
}

function RunningCard({ g }: { g: Group }) {
  const r = g.running;
  if (!r) return null;
  return (
    <Card title={g.exposureSeconds === undefined ? "First copy" : "Cycle under way"} aside={r.phase}>
      <div className="grid gap-1.5 p-4">
        <Bar
          share={r.totalBytes ? r.readBytes / r.totalBytes : 0}
          label="Read"
          tone={g.exposureSeconds === undefined ? "bg-seeding" : "bg-water"}
        />
        <div>
          {size(r.readBytes)} of {size(r.totalBytes)}
          {r.bytesPerSecond > 0 && ` · ${rate(r.bytesPerSecond)}`}
        </div>
        <div className="text-muted text-xs">
          {r.finishAt ? `done about ${when(r.finishAt)} · ` : ""}
          {size(r.wireBytes)} over the link
        </div>
        {r.note && <div className="text-tight-ink text-xs">{r.note}</div>}
      </div>
    </Card>
  );
}

function PromiseCard({ g }: { g: Group }) {
  const row = "grid grid-cols-[96px_minmax(0,1fr)] gap-2 py-1";
  return (
    <Card title="Promise">
      <dl className="px-4 py-2">
        <div className={row}>
          <dt className="text-muted">RPO target</dt>
          <dd className="font-medium">{span(g.promise.rpoTargetSeconds)}</dd>
        </div>
        {g.tier && (
          <div className={row}>
            <dt className="text-muted">Tier</dt>
            <dd className="font-medium">
              <Link to="/tiers" className="text-link">
                {g.tier.name}
              </Link>
              {g.tier.differs.map((d) => (
                <span key={d.field} className="block text-muted text-xs" title={`${d.own}, not ${d.tier}`}>
                  {d.field} differs: {d.reason}
                </span>
              ))}
            </dd>
          </div>
        )}
        {g.rtoTargetSeconds > 0 && (
          <div className={row}>
            <dt className="text-muted">RTO target</dt>
            <dd className="font-medium">{span(g.rtoTargetSeconds)}</dd>
          </div>
        )}
        {(g.drilledAt || g.drillEverySeconds > 0) && (
          <div className={row}>
            <dt className="text-muted">Drill</dt>
            <dd className="font-medium">
              {g.drilledAt ? (
                <>
                  passed <When at={g.drilledAt} />
                </>
              ) : (
                "none has passed yet"
              )}
              {g.drillDueAt && (
                <span className={Date.parse(g.drillDueAt) < Date.now() ? "block text-tight-ink" : "block text-muted"}>
                  {Date.parse(g.drillDueAt) < Date.now() ? "◆ was due " : "due "}
                  <When at={g.drillDueAt} />
                </span>
              )}
              {g.direction !== "out" && (
                <Link to={`/drills?group=${g.id}`} className="block text-link text-xs">
                  all drills of it
                </Link>
              )}
            </dd>
          </div>
        )}
        <div className={row}>
          <dt className="text-muted">Cadence</dt>
          <dd className="font-medium">
            {g.promise.cadence ?? "by hand"}
            {g.promise.calendar && <span className="text-muted"> ({g.promise.zone})</span>}
            {g.nextStartAt ? (
              <>
                , next <When at={g.nextStartAt} />
              </>
            ) : (
              g.running && g.promise.cadence !== "by hand" && ", next when this one ends"
            )}
            {g.waiting && <div className="text-muted text-xs">It waits: {g.waiting}</div>}
          </dd>
        </div>
        {g.promise.quiet && (
          <div className={row}>
            <dt className="text-muted">Quiet</dt>
            <dd className="font-medium">
              {g.promise.quiet} <span className="text-muted">({g.promise.zone})</span>
            </dd>
          </div>
        )}
        <div className={row}>
          <dt className="text-muted">Kept</dt>
          <dd className="font-medium">
            {g.promise.keep.map((r) => (
              <div key={`${r.eachSeconds}-${r.forSeconds}`}>{rungText(r)}</div>
            ))}
          </dd>
        </div>
        {(g.homePoints || g.homePointCount > 0) && (
          <div className={row}>
            <dt className="text-muted">At home</dt>
            <dd className="font-medium">
              {count(g.homePointCount, "point")} at {g.home} as well
            </dd>
          </div>
        )}
        {(g.comparedAt || g.compareEverySeconds > 0) && (
          <div className={row}>
            <dt className="text-muted">Compared</dt>
            <dd className="font-medium">
              {g.comparedAt ? <When at={g.comparedAt} /> : "not yet"}
              {g.compareEverySeconds > 0 && `, every ${span(g.compareEverySeconds)}`}
            </dd>
          </div>
        )}
        <div className={row}>
          <dt className="text-muted">Backlog</dt>
          <dd className="font-medium">
            {size(g.backlogBytes)}
            {g.changeBytesPerSecond ? ` · changing ${rate(g.changeBytesPerSecond)}` : ""}
          </dd>
        </div>
        {g.space && (
          <div className={row}>
            <dt className="text-muted">Stored here</dt>
            <dd className="font-medium">
              {size(g.space.neededBytes)}
              <div className="font-normal text-muted text-xs">
                deleting its points here gives back {size(g.space.aloneBytes)}
              </div>
            </dd>
          </div>
        )}
        <div className={row}>
          <dt className="text-muted">Confirmed</dt>
          <dd className="font-medium">
            by {g.recovery} <When at={g.confirmedAt} />
          </dd>
        </div>
      </dl>
    </Card>
  );
}

const phaseLook: Record<string, string> = { capture: "bg-ink", read: "bg-water/60", ship: "bg-water", seal: "bg-ink" };

/** Phases draws when each stage of a cycle ran. */
function Phases({ c }: { c: Cycle }) {
  const from = Date.parse(c.startedAt);
  const last = Math.max(...c.phases.map((p) => Date.parse(p.to ?? p.from)), from + 1);
  return (
    <div className="grid gap-1">
      {c.phases.map((p) => {
        const a = (Date.parse(p.from) - from) / (last - from);
        const b = (Date.parse(p.to ?? p.from) - from) / (last - from);
        return (
          <div key={p.name} className="grid grid-cols-[56px_minmax(0,1fr)_56px] items-center gap-2 text-xs">
            <span className="text-muted capitalize">{p.name}</span>
            <span className="relative h-2.5">
              <span
                className={`absolute inset-y-0 rounded-sm ${phaseLook[p.name] ?? "bg-water"}`}
                style={{ left: `${a * 100}%`, width: `max(3px, ${(b - a) * 100}%)` }}
              />
            </span>
            <span className="text-right text-muted">{p.to ? millis(Date.parse(p.to) - Date.parse(p.from)) : "…"}</span>
          </div>
        );
      })}
    </div>
  );
}

function CycleCard({ g }: { g: Group }) {
  const [all, setAll] = useState(false);
  const q = useQuery({
    queryKey: ["cycles", g.id],
    queryFn: () => ask(api.GET("/groups/{id}/cycles", { params: { path: { id: g.id }, query: { limit: 20 } } })),
    enabled: all,
  });
  const c = g.lastCycle;
  return (
    <Card
      title="Last cycle"
      aside={
        c && (
          <>
            <When at={c.startedAt} />
            {c.endedAt && ` · ${millis(Date.parse(c.endedAt) - Date.parse(c.startedAt))}`}
          </>
        )
      }
    >
      {c ? (
        <div className="grid gap-2 px-4 py-3">
          <Phases c={c} />
          <div className="text-xs">
            {size(c.changedBytes)} changed → {size(c.shippedBytes)} new → {size(c.wireBytes)} sent
            {c.wireBytes > 0 && c.shippedBytes > 0 && ` (${(c.shippedBytes / c.wireBytes).toFixed(1)} : 1)`}
          </div>
          {c.error && <div className="text-over-ink text-xs">{c.error}</div>}
          {c.note && <div className="text-muted text-xs">{c.note}</div>}
          <button
            type="button"
            aria-expanded={all}
            className="cursor-pointer justify-self-start font-semibold text-link text-xs"
            onClick={() => setAll(!all)}
          >
            {all ? "Hide earlier cycles" : "Earlier cycles"}
          </button>
          {all && (
            <ul className="grid gap-1 text-xs">
              {q.data?.map((x) => (
                <li key={x.id} className="flex justify-between gap-2">
                  <span>
                    {x.number} · {x.state} · <When at={x.startedAt} />
                  </span>
                  <span className="text-muted">
                    {size(x.changedBytes)}
                    {x.endedAt && ` · ${millis(Date.parse(x.endedAt) - Date.parse(x.startedAt))}`}
                  </span>
                </li>
              ))}
            </ul>
          )}
        </div>
      ) : (
        <Empty>No cycle has run yet.</Empty>
      )}
    </Card>
  );
}

function DeleteDialog({ g, onClose }: { g: Group; onClose: () => void }) {
  const go = useNavigate();
  const form = useForm({ defaultValues: { points: "keep" as "keep" | "delete" } });
  return (
    <ConfirmDialog
      title={`Delete ${g.name}`}
      intro={`Cycles end for good, and exposure is no longer watched. Machines at ${g.home} are not touched. ${g.recovery} holds ${count(g.points, "point")}.`}
      ask="the group's name"
      name={g.name}
      act={() =>
        ask(
          api.DELETE("/groups/{id}", {
            params: {
              path: { id: g.id },
              query: { points: g.direction === "ended" ? "delete" : form.getValues("points") },
            },
          }),
        )
      }
      done={() => go("/groups")}
      onClose={onClose}
      go="Delete the group"
      stay="Leave it as it is"
    >
      {g.direction !== "ended" && (
        <fieldset className="grid gap-1.5">
          <legend className="mb-1 font-medium">What becomes of the points?</legend>
          <label className="flex items-center gap-2">
            <input type="radio" value="keep" {...form.register("points")} />
            Keep them at {g.recovery}
          </label>
          <label className="flex items-center gap-2">
            <input type="radio" value="delete" {...form.register("points")} />
            {g.direction === "out"
              ? `Have ${g.recovery} delete all ${g.points} of them; until its wait is over, somebody there can keep them`
              : `Delete all ${g.points} of them; they cannot be brought back${g.space ? `, and in the end ${size(g.space.aloneBytes)} are free again` : ""}`}
          </label>
        </fieldset>
      )}
    </ConfirmDialog>
  );
}
