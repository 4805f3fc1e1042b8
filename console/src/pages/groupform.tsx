import { useMutation, useQuery } from "@tanstack/react-query";
import { useEffect, useMemo, useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { api, ask, Problem, type Promise_ } from "../api";
import { count, exactly, parseSpan, rate, size, span, when } from "../format";
import { Button, Card, Fault, Field, inputLook, Page } from "../ui";

type RungText = { id: number; each: string; reach: string };

let nextRung = 0;
const rung = (each: string, reach: string): RungText => ({ id: nextRung++, each, reach });

function spanText(s: number): string {
  for (const [n, u] of [
    [604800, "w"],
    [86400, "d"],
    [3600, "h"],
    [60, "min"],
  ] as const)
    if (s >= n && s % n === 0) return `${s / n} ${u}`;
  return `${s} s`;
}

/** useSettled gives a value once it has not changed for a moment. */
function useSettled<T>(value: T): T {
  const [v, set] = useState(value);
  useEffect(() => {
    const t = window.setTimeout(() => set(value), 250);
    return () => window.clearTimeout(t);
  }, [value]);
  return v;
}

export function GroupFormPage() {
  const { id } = useParams();
  const g = useQuery({
    queryKey: ["group", id],
    queryFn: () => ask(api.GET("/groups/{id}", { params: { path: { id: id ?? "" } } })),
    enabled: !!id,
  });
  if (g.error) return <Fault of={g.error} />;
  if (id && !g.data) return null;
  const p = g.data?.promise;
  return (
    <Form
      key={id ?? "new"}
      id={id}
      start={{
        name: g.data?.name ?? "",
        machines: g.data?.machines.map((m) => m.name) ?? [],
        link: g.data?.link ?? "",
        quiesce: g.data?.machines.filter((m) => m.quiesce).map((m) => m.name) ?? [],
        together: g.data?.together ?? true,
        priority: g.data?.priority ?? "normal",
        homePoints: g.data?.homePoints ?? false,
        compareEvery: g.data?.compareEverySeconds ?? 0,
        rpo: p ? spanText(p.rpoTargetSeconds) : "15 min",
        every: p ? (p.cadenceSeconds ? spanText(p.cadenceSeconds) : "") : "5 min",
        byHand: p ? p.cadenceSeconds === 0 : false,
        rungs: p
          ? p.keep.map((r) => rung(r.eachSeconds ? spanText(r.eachSeconds) : "", spanText(r.forSeconds)))
          : [rung("", "6 h"), rung("1 h", "2 d"), rung("1 d", "14 d")],
      }}
    />
  );
}

type Start = {
  name: string;
  machines: string[];
  link: string;
  quiesce: string[];
  together: boolean;
  priority: string;
  compareEvery: number;
  homePoints: boolean;
  rpo: string;
  every: string;
  byHand: boolean;
  rungs: RungText[];
};

function Form({ id, start }: { id?: string; start: Start }) {
  const go = useNavigate();
  const [name, setName] = useState(start.name);
  const [chosen, setChosen] = useState<string[]>(start.machines);
  const [link, setLink] = useState(start.link);
  const [rpo, setRpo] = useState(start.rpo);
  const [every, setEvery] = useState(start.every);
  const [byHand, setByHand] = useState(start.byHand);
  const [rungs, setRungs] = useState(start.rungs);
  const [quiesce, setQuiesce] = useState<string[]>(start.quiesce);
  const [together, setTogether] = useState(start.together);
  const [priority, setPriority] = useState(start.priority);
  const [homePoints, setHomePoints] = useState(start.homePoints);
  const [compareEvery, setCompareEvery] = useState(start.compareEvery);
  const [find, setFind] = useState("");
  const machines = useQuery({ queryKey: ["machines"], queryFn: () => ask(api.GET("/machines")) });
  const links = useQuery({ queryKey: ["links"], queryFn: () => ask(api.GET("/links")) });
  const platforms = useQuery({ queryKey: ["platforms"], queryFn: () => ask(api.GET("/platforms")) });
  const real = new Set(platforms.data?.filter((p) => p.kind === "libvirt").map((p) => p.id));
  const restable = machines.data?.filter((m) => chosen.includes(m.name) && real.has(m.platform)) ?? [];
  const only = links.data?.length === 1 ? links.data[0] : undefined;
  const to = link || only?.id || "";

  const unread = "Write a length of time, such as 90 s, 15 min, 6 h or 14 d.";
  const target = parseSpan(rpo);
  const cadence = byHand ? 0 : parseSpan(every);
  const keep = useMemo(
    () => rungs.map((r) => ({ eachSeconds: r.each.trim() ? parseSpan(r.each) : 0, forSeconds: parseSpan(r.reach) })),
    [rungs],
  );
  const promise = useMemo((): Promise_ | undefined => {
    if (target === undefined || cadence === undefined) return undefined;
    const k = [];
    for (const r of keep) {
      if (r.eachSeconds === undefined || r.forSeconds === undefined) return undefined;
      k.push({ eachSeconds: r.eachSeconds, forSeconds: r.forSeconds });
    }
    return { rpoTargetSeconds: target, cadenceSeconds: cadence, keep: k };
  }, [target, cadence, keep]);
  const asked = useSettled(useMemo(() => ({ promise, chosen }), [promise, chosen]));
  const forecast = useQuery({
    queryKey: ["forecast", id, asked],
    queryFn: () =>
      ask(
        api.POST("/forecast", {
          body: {
            promise: asked.promise as Promise_,
            machines: asked.chosen.length ? asked.chosen : undefined,
            group: id,
          },
        }),
      ),
    enabled: !!asked.promise,
    placeholderData: (d) => d,
  });
  const save = useMutation({
    mutationFn: async () => {
      if (!promise) throw new Problem(0, "Some lengths of time cannot be read", "Nothing was sent.", []);
      const body = {
        name,
        machines: chosen,
        promise,
        together,
        priority,
        compareEverySeconds: compareEvery,
        homePoints,
        quiesce: restable.length ? quiesce.filter((n) => restable.some((m) => m.name === n)) : undefined,
      };
      if (id) return ask(api.PATCH("/groups/{id}", { params: { path: { id } }, body }));
      return ask(api.POST("/groups", { body: { ...body, link: to } }));
    },
    onSuccess: (g) => go(`/groups/${g.id}`),
  });
  const problem = save.error instanceof Problem ? save.error : undefined;
  const f = forecast.data;
  const faultsAt = (field: string) => [
    ...(f?.faults.filter((x) => x.field === field || x.field.startsWith(`${field}[`)).map((x) => x.message) ?? []),
  ];
  const shown = machines.data?.filter((m) =>
    find
      .toLowerCase()
      .split(/\s+/)
      .every((w) => `${m.name} ${m.folder} ${m.tags.join(" ")} ${m.guest}`.toLowerCase().includes(w)),
  );
  const site = links.data?.find((l) => l.id === to);
  const toggle = (n: string) => setChosen(chosen.includes(n) ? chosen.filter((x) => x !== n) : [...chosen, n]);
  const setRung = (i: number, r: Partial<RungText>) => setRungs(rungs.map((x, n) => (n === i ? { ...x, ...r } : x)));

  return (
    <Page crumbs={<Link to="/groups">Groups</Link>} title={id ? `Edit ${start.name}` : "New protection group"}>
      <div className="grid items-start gap-4 xl:grid-cols-[minmax(0,1fr)_320px]">
        <form
          className="grid gap-4"
          onSubmit={(e) => {
            e.preventDefault();
            save.mutate();
          }}
        >
          <Card title="1 · Machines" aside={`${chosen.length} chosen, captured together at one instant`}>
            <div className="grid gap-2 p-4">
              <input
                aria-label="Find machines"
                className={inputLook}
                placeholder="Find by name, folder or tag"
                value={find}
                onChange={(e) => setFind(e.target.value)}
              />
              <ul className="grid max-h-64 gap-0.5 overflow-auto rounded-md border border-line p-1">
                {shown?.map((m) => {
                  const bar = m.barrier
                    ? `${m.barrier} ${m.mend ?? ""}`
                    : m.group && m.group !== id
                      ? `In the group ${m.groupName}.`
                      : "";
                  return (
                    <li key={m.id}>
                      <label
                        className={`flex items-baseline gap-2.5 rounded px-2 py-1 ${bar ? "text-muted" : "cursor-pointer hover:bg-still-bg"}`}
                      >
                        <input
                          type="checkbox"
                          checked={chosen.includes(m.name)}
                          disabled={!!bar && !chosen.includes(m.name)}
                          onChange={() => toggle(m.name)}
                        />
                        <span className="w-36 shrink-0 truncate font-medium">{m.name}</span>
                        <span className="w-36 shrink-0 truncate text-muted text-xs">{m.folder}</span>
                        <span className="min-w-0 text-muted text-xs">
                          {bar ||
                            `${count(m.disks.length, "disk")} · ${size(m.disks.reduce((s, d) => s + d.usedBytes, 0))} used`}
                        </span>
                      </label>
                    </li>
                  );
                })}
                {machines.data && !machines.data.length && (
                  <li className="px-2 py-3 text-muted">
                    No machines yet.{" "}
                    <Link to="/sites" className="font-semibold text-link">
                      Add a platform
                    </Link>{" "}
                    first.
                  </li>
                )}
                {machines.data?.length
                  ? !shown?.length && <li className="px-2 py-3 text-muted">Nothing fits.</li>
                  : null}
              </ul>
              {faultsAt("machines").map((t) => (
                <div key={t} className="text-over-ink text-xs">
                  ✕ {t}
                </div>
              ))}
            </div>
          </Card>
          {restable.length > 0 && (
            <Card title="At each capture" aside="what the guests notice">
              <div className="grid gap-2 p-4">
                <fieldset className="grid gap-1">
                  <legend className="mb-1 font-medium">Bring file systems to rest</legend>
                  {restable.map((m) => (
                    <label key={m.id} className="flex items-baseline gap-2">
                      <input
                        type="checkbox"
                        checked={quiesce.includes(m.name)}
                        onChange={() =>
                          setQuiesce(
                            quiesce.includes(m.name) ? quiesce.filter((x) => x !== m.name) : [...quiesce, m.name],
                          )
                        }
                      />
                      {m.name}
                    </label>
                  ))}
                  <div className="text-muted text-xs">
                    The guest agent flushes and holds all writes for the moment of the capture, some tenths of a second.
                    If it fails, the machine is captured as it is, and the point says so.
                  </div>
                </fieldset>
                {restable.length > 1 && (
                  <label className="flex items-baseline gap-2">
                    <input type="checkbox" checked={together} onChange={(e) => setTogether(e.target.checked)} />
                    <span>
                      One instant for all{" "}
                      <span className="text-muted text-xs">
                        machines that are not at rest are suspended for some tenths of a second; without this, each has
                        an instant of its own
                      </span>
                    </span>
                  </label>
                )}
              </div>
            </Card>
          )}
          <Card title="2 · Name and recovery site">
            <div className="grid gap-3 p-4 sm:grid-cols-2">
              <Field label="Name" faults={problem?.at("name")} hint="What people call it, such as Ticketing.">
                {(i, d) => (
                  <input
                    id={i}
                    aria-describedby={d}
                    required
                    className={inputLook}
                    value={name}
                    onChange={(e) => setName(e.target.value)}
                  />
                )}
              </Field>
              <Field label="Recovery site" faults={problem?.at("link")} hint="Where its points are kept.">
                {(i, d) => (
                  <select
                    id={i}
                    aria-describedby={d}
                    className={inputLook}
                    disabled={!!id}
                    value={to}
                    onChange={(e) => setLink(e.target.value)}
                  >
                    <option value="">Choose a site</option>
                    {links.data?.map((l) => (
                      <option key={l.id} value={l.id}>
                        {l.peer}
                        {l.up ? "" : " (does not answer now)"}
                      </option>
                    ))}
                  </select>
                )}
              </Field>
              <Field
                label="Priority"
                faults={problem?.at("priority")}
                hint="Its share where the link to that site is limited: 4 to 2 to 1."
              >
                {(i, d) => (
                  <select
                    id={i}
                    aria-describedby={d}
                    className={inputLook}
                    value={priority}
                    onChange={(e) => setPriority(e.target.value)}
                  >
                    <option value="high">high</option>
                    <option value="normal">normal</option>
                    <option value="low">low</option>
                  </select>
                )}
              </Field>
              <label className="flex items-start gap-2">
                <input
                  type="checkbox"
                  className="mt-1"
                  checked={homePoints}
                  onChange={(e) => setHomePoints(e.target.checked)}
                />
                <span>
                  Keep points here as well
                  <span className="block text-muted text-xs">
                    In this site's own store, by the same ladder. They protect from nothing that happens to the site.
                  </span>
                </span>
              </label>
              <Field
                label="Compare all of the disks"
                faults={problem?.at("compareEverySeconds")}
                hint="Reads everything once, to find what the platform did not report."
              >
                {(i, d) => (
                  <select
                    id={i}
                    aria-describedby={d}
                    className={inputLook}
                    value={compareEvery}
                    onChange={(e) => setCompareEvery(Number(e.target.value))}
                  >
                    {[...new Set([0, 7 * 86400, 30 * 86400, 90 * 86400, start.compareEvery])]
                      .sort((a, b) => a - b)
                      .map((n) => (
                        <option key={n} value={n}>
                          {n ? `every ${span(n)}` : "only when asked"}
                        </option>
                      ))}
                  </select>
                )}
              </Field>
            </div>
          </Card>
          <Card title="3 · Promise">
            <div className="grid gap-3 p-4 sm:grid-cols-2">
              <Field
                label="RPO target"
                hint="The most that may be lost, in time."
                faults={target === undefined ? [unread] : faultsAt("promise.rpoTargetSeconds")}
              >
                {(i, d) => (
                  <input
                    id={i}
                    aria-describedby={d}
                    className={inputLook}
                    value={rpo}
                    onChange={(e) => setRpo(e.target.value)}
                  />
                )}
              </Field>
              <Field
                label="Cycles start every"
                hint={
                  <label className="flex items-center gap-1.5">
                    <input type="checkbox" checked={byHand} onChange={(e) => setByHand(e.target.checked)} /> only by
                    hand
                  </label>
                }
                faults={cadence === undefined ? [unread] : faultsAt("promise.cadenceSeconds")}
              >
                {(i, d) => (
                  <input
                    id={i}
                    aria-describedby={d}
                    className={inputLook}
                    disabled={byHand}
                    value={every}
                    onChange={(e) => setEvery(e.target.value)}
                  />
                )}
              </Field>
              <fieldset className="grid gap-2 sm:col-span-2">
                <legend className="mb-1 font-medium">Keep ladder</legend>
                {rungs.map((r, i) => (
                  <div key={r.id} className="flex flex-wrap items-center gap-2">
                    <span className="text-muted">keep one per</span>
                    <input
                      aria-label={`Rung ${i + 1}: one per`}
                      className={`${inputLook} !w-28`}
                      placeholder="every point"
                      value={r.each}
                      onChange={(e) => setRung(i, { each: e.target.value })}
                    />
                    <span className="text-muted">for</span>
                    <input
                      aria-label={`Rung ${i + 1}: for`}
                      className={`${inputLook} !w-24`}
                      value={r.reach}
                      onChange={(e) => setRung(i, { reach: e.target.value })}
                    />
                    {rungs.length > 1 && (
                      <Button
                        aria-label={`Take rung ${i + 1} out`}
                        onClick={() => setRungs(rungs.filter((x) => x !== r))}
                      >
                        ✕
                      </Button>
                    )}
                  </div>
                ))}
                {keep.some((r) => r.eachSeconds === undefined || r.forSeconds === undefined) && (
                  <div className="text-over-ink text-xs">✕ {unread}</div>
                )}
                {faultsAt("promise.keep").map((t) => (
                  <div key={t} className="text-over-ink text-xs">
                    ✕ {t}
                  </div>
                ))}
                <Button className="justify-self-start" onClick={() => setRungs([...rungs, rung("1 w", "5 w")])}>
                  Add a rung
                </Button>
              </fieldset>
            </div>
          </Card>
          <Card title="4 · Review">
            <div className="grid gap-3 p-4">
              <p>
                {chosen.length ? (
                  <>
                    <strong>{name || "This group"}</strong>: {chosen.join(", ")} to{" "}
                    <strong>{site?.peer ?? "a site not chosen yet"}</strong>,{" "}
                    {byHand ? "cycles by hand" : `a cycle every ${cadence === undefined ? "…" : span(cadence)}`}, to
                    lose at most {target === undefined ? "…" : span(target)}.
                    {!id && " The first copy begins at once; the machines keep running."}
                  </>
                ) : (
                  "Choose machines to protect."
                )}
              </p>
              <Fault of={save.error} />
              <div className="flex gap-2">
                <Button
                  kind="main"
                  type="submit"
                  disabled={save.isPending || !chosen.length || !promise || !!f?.faults.length}
                >
                  {id ? "Save" : "Make the group"}
                </Button>
                <Button onClick={() => go(-1)}>Back, change nothing</Button>
              </div>
            </div>
          </Card>
        </form>
        <Card title="What comes of it" className="xl:sticky xl:top-5">
          {f && !f.faults.some((x) => x.field.startsWith("promise")) ? (
            <dl className="grid gap-2 p-4">
              <Out name="Next starts">
                {f.starts.length
                  ? f.starts.slice(0, 4).map((t) => (
                      <div key={t} title={exactly(t)}>
                        {when(t)}
                      </div>
                    ))
                  : "only by hand"}
              </Out>
              <Out name="Points">
                {f.points || "as many as you run"}, back to {span(f.oldestSeconds)}
                <div className="text-muted text-xs">{f.pointsPerRung.join(" + ")}</div>
              </Out>
              <Out name="Worst exposure">
                {f.worstSeconds ? span(f.worstSeconds) : "—"}
                <div className="text-muted text-xs">cadence plus the length of a cycle</div>
              </Out>
              <Out name="First copy">{chosen.length ? size(f.usedBytes) : "—"}</Out>
              <Out name="Space at most">
                {chosen.length ? size(f.spaceBytes) : "—"}
                <div className="text-muted text-xs">
                  {f.changeBytesPerSecond
                    ? `changing ${rate(f.changeBytesPerSecond)}, before compression`
                    : "what changes is not known before the first cycles"}
                </div>
              </Out>
              {f.warnings.map((w) => (
                <div key={w.message} className="rounded bg-tight-bg px-2.5 py-1.5 text-tight-ink text-xs">
                  ◆ {w.message}
                </div>
              ))}
            </dl>
          ) : (
            <div className="p-4 text-muted">
              {promise ? "This promise cannot be kept; see the note at its field." : "Fill in the promise to see it."}
            </div>
          )}
        </Card>
      </div>
    </Page>
  );
}

function Out({ name, children }: { name: string; children: React.ReactNode }) {
  return (
    <div className="grid grid-cols-[110px_minmax(0,1fr)] gap-2">
      <dt className="text-muted">{name}</dt>
      <dd className="font-medium">{children}</dd>
    </div>
  );
}
