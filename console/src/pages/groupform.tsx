import { keepPreviousData, useMutation, useQuery } from "@tanstack/react-query";
import { useEffect, useMemo, useState } from "react";
import { useForm, useWatch } from "react-hook-form";
import { Link, useNavigate, useParams, useSearchParams } from "react-router";
import { api, ask, type Group, Problem, type Schemas } from "../api";
import { asks } from "../asks";
import { readDraft, writeDraft } from "../draft";
import { count, keepText, plainSpan, span, tagsOf, when } from "../format";
import { useSettled } from "../settled";
import { Button, Card, Fault, Field, inputLook, Page } from "../ui";
import { Beside } from "./beside";
import { Consequence } from "./consequence";
import { homeOf, Machines } from "./groupmachines";
import { Disks, quiesceOf, Rest, type RestValues, Rule, restOf } from "./groupscope";

/** Values are what can be set. Machines are named by ID, never by a name that two may have. */
export type Values = {
  name: string;
  tags: string;
  machines: string[];
  link: string;
  rule: string;
  order: string;
  without: string[];
  bootToo: boolean;
  newDisks: string;
  rest: Record<string, RestValues>;
  together: boolean;
  priority: string;
  compareEvery: string;
  homePoints: boolean;
  homeKeep: string;
  lock: string;
  tier: string;
  reason: string;
  rto: string;
  drill: string;
  restMode: string;
  least: string;
  rpo: string;
  every: string;
  quiet: string;
  zone: string;
  keep: string;
};

type Patch = Schemas["GroupPatch"];

type Dirty = Partial<Record<keyof Values, unknown>>;

const fresh: Values = {
  name: "",
  tags: "",
  machines: [],
  link: "",
  rule: "",
  order: "100",
  without: [],
  bootToo: false,
  newDisks: "copy",
  rest: {},
  together: true,
  priority: "normal",
  compareEvery: "0",
  homePoints: false,
  homeKeep: "",
  lock: "0",
  tier: "",
  reason: "",
  rto: "",
  drill: "",
  restMode: "off",
  least: "",
  rpo: "15 min",
  every: "5 min",
  quiet: "",
  zone: Intl.DateTimeFormat().resolvedOptions().timeZone || "UTC",
  keep: "all 6h, 1h 2d, 1d 14d",
};

function valuesOf(g: Group, all: Schemas["Machine"][]): Values {
  const key = (m: Schemas["GroupMachine"]) => homeOf(g, m, all) ?? m.id;
  const p = g.promise;
  return {
    name: g.name,
    tags: g.tags.join(", "),
    machines: g.machines.map(key),
    link: g.link ?? "",
    rule: g.rule?.match ?? "",
    order: String(g.rule?.order ?? 100),
    without: g.machines.flatMap((m) => m.disks.filter((d) => d.leftOut).map((d) => `${key(m)}:${d.key}`)),
    bootToo: false,
    newDisks: g.newDisks,
    rest: Object.fromEntries(g.machines.filter((m) => m.quiesce).map((m) => [key(m), restOf(m.quiesce)])),
    together: g.together,
    priority: g.priority,
    compareEvery: String(g.compareEverySeconds),
    homePoints: g.homePoints,
    homeKeep: g.homeKeep ?? "",
    lock: String(g.lockSeconds),
    tier: g.tier?.id ?? "",
    reason: "",
    rto: g.rtoTargetSeconds ? String(g.rtoTargetSeconds / 60) : "",
    drill: g.drillEverySeconds ? String(g.drillEverySeconds / 86400) : "",
    restMode: g.rest,
    least: p.leastPoints ? String(p.leastPoints) : "",
    rpo: plainSpan(p.rpoTargetSeconds),
    every: p.cadenceSeconds ? plainSpan(p.cadenceSeconds) : (p.cadence ?? "hand"),
    quiet: p.quiet ?? "",
    zone: p.zone ?? "UTC",
    keep: keepText(p.keep),
  };
}

/** promised is a new group's promise; of one that follows a tier only what was typed differently. */
function promised(v: Values, dirty: Dirty) {
  if (!v.tier) return { promiseText: promiseOf(v) };
  const { promiseText } = patchOf(v, dirty);
  return { tier: v.tier, reason: v.reason.trim() || undefined, promiseText };
}

/** recoveries is what a new group says of them. */
function recoveries(v: Values, dirty: Dirty) {
  const { rtoTargetSeconds, drillEverySeconds, rest } = patchOf(v, dirty);
  return { rtoTargetSeconds, drillEverySeconds, rest };
}

/** leftOf are the disks that are left out of the machines that are chosen. */
const leftOf = (v: Values) => v.without.filter((d) => v.machines.some((m) => d.startsWith(`${m}:`)));

const ruleOf = (v: Values) => (v.rule.trim() ? { match: v.rule, order: Number(v.order) || 0 } : undefined);

const zones = ["UTC", ...Intl.supportedValuesOf("timeZone")];

const promiseOf = (v: Values): Schemas["PromiseText"] => ({
  rpoTarget: v.rpo,
  cadence: v.every,
  quiet: v.quiet.trim() || "none",
  zone: v.zone.trim() || "UTC",
  keep: v.keep,
  leastPoints: Number(v.least) || 0,
});

/** patchOf names only what was edited, so that what others edit meanwhile stays. */
function patchOf(v: Values, dirty: Dirty): Patch {
  const p: Patch = {};
  if (dirty.name) p.name = v.name;
  if (dirty.tags) p.tags = tagsOf(v.tags);
  if (dirty.machines) p.machines = v.machines;
  if (dirty.rest) p.quiesce = quiesceOf(v.rest, v.machines);
  if (dirty.without) p.withoutDisks = leftOf(v);
  if (dirty.without && v.bootToo) p.withoutBootDisks = true;
  if (dirty.newDisks) p.newDisks = v.newDisks;
  if (dirty.rule || dirty.order) {
    if (v.rule.trim()) p.rule = ruleOf(v);
    else if (dirty.rule) p.noRule = true;
  }
  if (dirty.together) p.together = v.together;
  if (dirty.priority) p.priority = v.priority;
  if (dirty.compareEvery) p.compareEverySeconds = Number(v.compareEvery);
  if (dirty.homePoints) p.homePoints = v.homePoints;
  if (dirty.homeKeep) p.homeKeep = v.homeKeep.trim() || "same";
  if (dirty.tier) {
    if (v.tier) p.tier = v.tier;
    else p.noTier = true;
  }
  if (v.reason.trim()) p.reason = v.reason;
  if (dirty.rto) p.rtoTargetSeconds = Math.round((Number(v.rto) || 0) * 60);
  if (dirty.drill) p.drillEverySeconds = Math.round((Number(v.drill) || 0) * 86400);
  if (dirty.restMode) p.rest = v.restMode;
  if (dirty.lock) p.lockSeconds = Number(v.lock);
  const text: Schemas["PromiseText"] = {};
  if (dirty.rpo) text.rpoTarget = v.rpo;
  if (dirty.every) text.cadence = v.every;
  if (dirty.quiet) text.quiet = v.quiet.trim() || "none";
  if (dirty.zone) text.zone = v.zone.trim() || "UTC";
  if (dirty.keep) text.keep = v.keep;
  if (dirty.least) text.leastPoints = Number(v.least) || 0;
  if (Object.keys(text).length) p.promiseText = text;
  return p;
}

export function GroupFormPage() {
  const { id } = useParams();
  const [params] = useSearchParams();
  const chosen = params.get("machines")?.split(",").filter(Boolean) ?? [];
  // What the form begins from is asked for anew: a copy from before may be stale.
  const g = useQuery({
    queryKey: ["group-form", id],
    queryFn: async () => {
      const r = await api.GET("/groups/{id}", { params: { path: { id: id ?? "" } } });
      const group = await ask(Promise.resolve(r));
      return {
        start: valuesOf(group, await ask(api.GET("/machines"))),
        group,
        tag: r.response.headers.get("ETag") ?? undefined,
      };
    },
    enabled: !!id,
    gcTime: 0,
    staleTime: Number.POSITIVE_INFINITY,
    refetchOnWindowFocus: false,
  });
  if (g.error) return <Fault of={g.error} />;
  if (id && !g.data) return null;
  return (
    <Form
      key={g.data?.tag ?? "new"}
      of={g.data?.group}
      start={g.data?.start ?? { ...fresh, machines: chosen }}
      tag={g.data?.tag}
      again={() => {
        g.refetch();
      }}
    />
  );
}

function Form({ of, start, tag, again }: { of?: Group; start: Values; tag?: string; again: () => void }) {
  const go = useNavigate();
  const form = useForm<Values>({ defaultValues: start });
  const v = useWatch({ control: form.control }) as Values;
  // What is typed outlives a reload and an error, until it is saved or left by the way back.
  const key = `group ${of ? `${of.id} ${of.revision}` : "new"}`;
  const [kept] = useState(() => readDraft<Values>(key));
  useEffect(() => {
    if (!kept) return;
    for (const [k, x] of Object.entries(kept) as [keyof Values, never][]) {
      if (JSON.stringify(x) !== JSON.stringify(start[k])) form.setValue(k, x, { shouldDirty: true });
    }
  }, [kept, form, start]);
  useEffect(() => {
    if (Object.keys(form.formState.dirtyFields).length) writeDraft(key, v);
  }, [key, v, form.formState.dirtyFields]);
  const dirty = form.formState.dirtyFields;
  const machines = useQuery(asks.machines);
  const links = useQuery(asks.links);
  const mine = machines.data?.filter((m) => v.machines.includes(m.id)) ?? [];
  const to = v.link || (links.data?.length === 1 ? links.data[0]?.id : "") || "";
  const site = links.data?.find((l) => l.id === to);
  const [drop, setDrop] = useState(false);
  const all = useQuery(asks.tiers);
  const here = useQuery(asks.me).data?.site;
  const tiers = all.data?.filter((t) => t.site === (of?.home ?? here)) ?? [];
  // What a tier says stands in the fields, and what is typed over it differs.
  const follow = (id: string) => {
    form.setValue("tier", id, { shouldDirty: true });
    const t = tiers.find((x) => x.id === id);
    if (!t) return;
    const said = {
      rpo: plainSpan(t.promise.rpoTargetSeconds),
      every: t.promise.cadenceSeconds ? plainSpan(t.promise.cadenceSeconds) : (t.promise.cadence ?? "hand"),
      quiet: t.promise.quiet ?? "",
      zone: t.promise.zone ?? "UTC",
      keep: keepText(t.promise.keep),
      rto: t.rtoTargetSeconds ? String(t.rtoTargetSeconds / 60) : "",
      drill: t.drillEverySeconds ? String(t.drillEverySeconds / 86400) : "",
      restMode: t.rest,
      least: t.promise.leastPoints ? String(t.promise.leastPoints) : "",
      priority: t.priority,
      lock: String(t.lockSeconds),
    };
    for (const [k, x] of Object.entries(said) as [keyof typeof said, string][]) form.resetField(k, { defaultValue: x });
  };

  const patch = patchOf(v, dirty);
  const settled = useSettled(JSON.stringify({ patch, v, to, dirty }));
  const asked = useMemo(() => JSON.parse(settled) as { patch: Patch; v: Values; to: string; dirty: Dirty }, [settled]);
  const preview = useQuery({
    queryKey: ["preview", of?.id, settled],
    queryFn: async (): Promise<
      Pick<Schemas["Preview"], "forecast" | "faults" | "warnings"> & Partial<Schemas["Preview"]>
    > => {
      if (of) return ask(api.POST("/groups/{id}/preview", { params: { path: { id: of.id } }, body: asked.patch }));
      const x = asked.v;
      const forecast = await ask(
        api.POST("/forecast", {
          body: {
            name: x.name || undefined,
            link: asked.to || undefined,
            ...promised(x, asked.dirty),
            machines: x.machines.length ? x.machines : undefined,
            rule: ruleOf(x),
            withoutDisks: leftOf(x),
            withoutBootDisks: x.bootToo,
            quiesce: quiesceOf(x.rest, x.machines),
          },
        }),
      );
      return { forecast, faults: forecast.faults, warnings: forecast.warnings };
    },
    placeholderData: keepPreviousData,
  });
  const save = useMutation({
    mutationFn: async () => {
      if (of) {
        const body = { ...patch, dropPoints: drop || undefined };
        return ask(
          api.PATCH("/groups/{id}", { params: { path: { id: of.id }, header: tag ? { "If-Match": tag } : {} }, body }),
        );
      }
      return ask(
        api.POST("/groups", {
          body: {
            name: v.name,
            tags: tagsOf(v.tags),
            machines: v.machines,
            link: to,
            ...promised(v, dirty),
            ...recoveries(v, dirty),
            together: v.together,
            priority: v.tier && !dirty.priority ? undefined : v.priority,
            compareEverySeconds: Number(v.compareEvery),
            homePoints: v.homePoints,
            homeKeep: v.homeKeep.trim() || undefined,
            lockSeconds: v.tier && !dirty.lock ? undefined : Number(v.lock),
            rule: ruleOf(v),
            withoutDisks: leftOf(v),
            withoutBootDisks: v.bootToo,
            newDisks: v.newDisks,
            quiesce: quiesceOf(v.rest, v.machines),
          },
        }),
      );
    },
    onSuccess: (g) => {
      writeDraft(key, undefined);
      go(`/groups/${g.id}`);
    },
  });
  const problem = save.error instanceof Problem ? save.error : undefined;
  const shown = preview.data;
  const faultsAt = (field: string) => [
    ...new Set([
      ...(shown?.faults.filter((x) => x.field === field || x.field.startsWith(`${field}[`)).map((x) => x.message) ??
        []),
      ...(problem?.at(field) ?? []),
    ]),
  ];
  const drops = shown?.dropsPoints ?? 0;

  return (
    <Page crumbs={<Link to="/groups">Groups</Link>} title={of ? `Edit ${of.name}` : "New protection group"}>
      <div className="grid items-start gap-4 xl:grid-cols-[minmax(0,1fr)_320px]">
        <form className="grid gap-4" onSubmit={form.handleSubmit(() => save.mutate())}>
          <Machines
            form={form}
            of={of}
            machines={machines.data}
            faults={["machines", "addMachines", "removeMachines"].flatMap(faultsAt)}
            rule={
              <Rule
                form={form}
                group={of?.id}
                settled={asked.v}
                faults={["rule", "rule.match", "rule.order"].flatMap(faultsAt)}
              />
            }
          />
          <Disks form={form} machines={mine} faults={faultsAt("withoutDisks")} />
          <Rest form={form} machines={mine} faults={faultsAt("quiesce")} />
          <Card title="2 · Name and recovery site">
            <div className="grid gap-3 p-4 sm:grid-cols-2">
              <Field
                label="Name"
                faults={faultsAt("name").filter(() => v.name)}
                hint="What people call it, such as Ticketing."
              >
                {(i, d) => (
                  <input id={i} aria-describedby={d} required className={inputLook} {...form.register("name")} />
                )}
              </Field>
              <Field label="Recovery site" faults={problem?.at("link")} hint="Where its points are kept.">
                {(i, d) => (
                  <select
                    id={i}
                    aria-describedby={d}
                    className={inputLook}
                    disabled={!!of}
                    value={of && !links.data?.some((l) => l.id === to) ? "" : to}
                    onChange={(e) => form.setValue("link", e.target.value, { shouldDirty: true })}
                  >
                    <option value="">{of ? of.recovery : "Choose a site"}</option>
                    {links.data?.map((l) => (
                      <option key={l.id} value={l.id}>
                        {of ? of.recovery : l.peer}
                        {l.up ? "" : " (does not answer now)"}
                      </option>
                    ))}
                  </select>
                )}
              </Field>
              <Field
                label="Tags"
                faults={faultsAt("tags")}
                hint="Words with spaces between; people may be limited to them."
              >
                {(i, d) => <input id={i} aria-describedby={d} className={inputLook} {...form.register("tags")} />}
              </Field>
              <Field
                label="Priority"
                faults={problem?.at("priority")}
                hint="Its share where the link to that site is limited: 4 to 2 to 1."
              >
                {(i, d) => (
                  <select id={i} aria-describedby={d} className={inputLook} {...form.register("priority")}>
                    <option value="high">high</option>
                    <option value="normal">normal</option>
                    <option value="low">low</option>
                  </select>
                )}
              </Field>
              <div className="grid content-start gap-2">
                <label className="flex items-start gap-2">
                  <input type="checkbox" className="mt-1" {...form.register("homePoints")} />
                  <span>
                    Keep points at home as well
                    <span className="block text-muted text-xs">
                      In the home site's own store. They protect from nothing that happens to the site.
                    </span>
                  </span>
                </label>
                {v.homePoints && (
                  <Field label="Ladder at home" hint="Empty: the same as over there." faults={faultsAt("homeKeep")}>
                    {(i, d) => (
                      <input id={i} aria-describedby={d} className={inputLook} {...form.register("homeKeep")} />
                    )}
                  </Field>
                )}
              </div>
              <Field
                label="Lock points"
                faults={problem?.at("lockSeconds")}
                hint="Nobody deletes a locked point: no role, no ladder, no other site. It takes room until then. Holds for points that come."
              >
                {(i, d) => (
                  <select id={i} aria-describedby={d} className={inputLook} {...form.register("lock")}>
                    {[...new Set([0, 86400, 7 * 86400, 14 * 86400, 30 * 86400, 90 * 86400, of?.lockSeconds ?? 0])]
                      .sort((a, b) => a - b)
                      .map((n) => (
                        <option key={n} value={n}>
                          {n ? `for ${span(n)}` : "not at all"}
                        </option>
                      ))}
                  </select>
                )}
              </Field>
              <Field
                label="Compare all of the disks"
                faults={problem?.at("compareEverySeconds")}
                hint="Reads everything once, to find what the platform did not report."
              >
                {(i, d) => (
                  <select id={i} aria-describedby={d} className={inputLook} {...form.register("compareEvery")}>
                    {[...new Set([0, 7 * 86400, 30 * 86400, 90 * 86400, of?.compareEverySeconds ?? 0])]
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
              <Field label="Tier" hint="A promise with a name: the group moves with it." faults={faultsAt("tier")}>
                {(i, d) => (
                  <select
                    id={i}
                    aria-describedby={d}
                    className={inputLook}
                    value={v.tier}
                    onChange={(e) => follow(e.target.value)}
                  >
                    <option value="">none, a promise of its own</option>
                    {tiers.map((t) => (
                      <option key={t.id} value={t.id}>
                        {t.name}
                      </option>
                    ))}
                  </select>
                )}
              </Field>
              {v.tier ? (
                <Field
                  label="Why it differs"
                  hint="Needed where anything below is other than the tier says."
                  faults={faultsAt("reason")}
                >
                  {(i, d) => (
                    <input
                      id={i}
                      aria-describedby={d}
                      autoComplete="off"
                      className={inputLook}
                      {...form.register("reason")}
                    />
                  )}
                </Field>
              ) : (
                <div />
              )}
              <Field
                label="RPO target"
                hint="The most that may be lost, in time, such as 90 s, 15 min or 6 h."
                faults={faultsAt("promise.rpoTargetSeconds")}
              >
                {(i, d) => <input id={i} aria-describedby={d} className={inputLook} {...form.register("rpo")} />}
              </Field>
              <Field
                label="Cycles start every, or at"
                hint="5 min, 15 min or sooner, back to back, weekdays at 02:00, last friday of the month at 22:00, or hand."
                faults={faultsAt("promise.cadenceSeconds")}
              >
                {(i, d) => <input id={i} aria-describedby={d} className={inputLook} {...form.register("every")} />}
              </Field>
              <Field
                label="Quiet times"
                hint="When no cycle starts by itself: mon-fri 08:00-18:00; 2026-12-24 to 2026-12-26."
                faults={faultsAt("promise.quiet")}
              >
                {(i, d) => <input id={i} aria-describedby={d} className={inputLook} {...form.register("quiet")} />}
              </Field>
              <Field
                label="Time zone"
                hint="Of times and dates, such as Europe/Oslo."
                faults={faultsAt("promise.zone")}
              >
                {(i, d) => (
                  <input id={i} aria-describedby={d} list="zones" className={inputLook} {...form.register("zone")} />
                )}
              </Field>
              <datalist id="zones">
                {zones.map((z) => (
                  <option key={z} value={z} />
                ))}
              </datalist>
              <Field
                label="RTO target, minutes"
                hint="How long a recovery may take; empty for none."
                faults={faultsAt("rtoTargetSeconds")}
              >
                {(i, d) => (
                  <input
                    id={i}
                    aria-describedby={d}
                    inputMode="numeric"
                    className={inputLook}
                    {...form.register("rto")}
                  />
                )}
              </Field>
              <Field
                label="Drill every, days"
                hint="How often a recovery is to be tried; empty for never."
                faults={faultsAt("drillEverySeconds")}
              >
                {(i, d) => (
                  <input
                    id={i}
                    aria-describedby={d}
                    inputMode="numeric"
                    className={inputLook}
                    {...form.register("drill")}
                  />
                )}
              </Field>
              <div className="sm:col-span-2">
                <Field
                  label="Keep ladder"
                  hint="From fine to coarse: “all 6h, 1h 2d, 1d 14d”, “24 hourly, 7 daily” or “3 a day for 5 days”. What “1d 14d locked” keeps nobody deletes before; what “monthly 2y long-term” keeps goes to the long-term store when its month is over."
                  faults={faultsAt("promise.keep")}
                >
                  {(i, d) => <input id={i} aria-describedby={d} className={inputLook} {...form.register("keep")} />}
                </Field>
              </div>
              <Field
                label="Always kept"
                hint="How many of the newest points stay whatever the ladder says; empty for the newest one."
                faults={faultsAt("promise.leastPoints")}
              >
                {(i, d) => (
                  <input
                    id={i}
                    aria-describedby={d}
                    inputMode="numeric"
                    className={inputLook}
                    {...form.register("least")}
                  />
                )}
              </Field>
            </div>
          </Card>
          <Card title="4 · Review">
            <div className="grid gap-3 p-4">
              {of ? (
                <Changes changes={shown?.changes} />
              ) : (
                <p>
                  {v.machines.length || v.rule ? (
                    <>
                      <strong>{v.name || "This group"}</strong>:{" "}
                      {v.rule ? "machines by rule" : count(v.machines.length, "machine")} to{" "}
                      <strong>{site?.peer ?? "a site not chosen yet"}</strong>, cycles: {v.every}; to lose at most{" "}
                      {v.rpo}. The first copy begins at once; the machines keep running.
                    </>
                  ) : (
                    "Choose machines to protect."
                  )}
                </p>
              )}
              {drops > 0 && (
                <label className="flex items-start gap-2 rounded bg-tight-bg px-2.5 py-1.5 text-tight-ink">
                  <input type="checkbox" className="mt-1" checked={drop} onChange={(e) => setDrop(e.target.checked)} />
                  <span>
                    Let {count(drops, "point")} go at once
                    <span className="block text-xs">
                      {shown?.dropsNumbers?.length
                        ? `Numbers ${shown.dropsNumbers.slice(0, 12).join(", ")}${shown.dropsNumbers.length > 12 ? " …" : ""}. `
                        : ""}
                      The oldest that is left would be of {when(shown?.oldestLeftAt)}.
                    </span>
                  </span>
                </label>
              )}
              <Fault of={save.error ?? preview.error} />
              {problem?.status === 412 && (
                <Button className="justify-self-start" onClick={again}>
                  Look at it as it is now
                </Button>
              )}
              <div className="flex gap-2">
                <Button
                  kind="main"
                  type="submit"
                  disabled={
                    save.isPending ||
                    !(v.machines.length || v.rule.trim()) ||
                    !!shown?.faults.length ||
                    (!!of && !Object.keys(patch).length) ||
                    (drops > 0 && !drop)
                  }
                >
                  {of ? "Save" : "Make the group"}
                </Button>
                <Button
                  onClick={() => {
                    writeDraft(key, undefined);
                    go(-1);
                  }}
                >
                  Back, change nothing
                </Button>
              </div>
            </div>
          </Card>
        </form>
        <div className="grid gap-4 xl:sticky xl:top-5">
          <Consequence
            f={shown?.forecast}
            warnings={shown?.warnings ?? []}
            chosen={v.machines.length > 0 || !!v.rule.trim()}
          />
          <Beside own={of?.id} body={beside(of, asked, !!shown && !shown.faults.length)} />
        </div>
      </div>
    </Page>
  );
}

/** beside asks how a group would fare among all others, once nothing is wrong with it. */
function beside(
  of: Group | undefined,
  x: { patch: Patch; v: Values; to: string; dirty: Dirty },
  good: boolean,
): Schemas["SiteForecastRequest"] | undefined {
  if (!good || (of && of.direction !== "out")) return undefined;
  if (of) return { hours: 72, group: of.id, change: x.patch };
  if (!x.v.name || !x.to || (!x.v.machines.length && !x.v.rule.trim())) return undefined;
  return {
    hours: 72,
    join: {
      name: x.v.name,
      machines: x.v.machines,
      link: x.to,
      ...promised(x.v, x.dirty),
      rule: ruleOf(x.v),
      withoutDisks: leftOf(x.v),
      withoutBootDisks: x.v.bootToo,
      priority: x.v.tier && !x.dirty.priority ? undefined : x.v.priority,
    },
  };
}

/** Changes lists what an edit would change, from what to what. */
function Changes({ changes }: { changes?: Schemas["Change"][] }) {
  if (!changes?.length) return <p className="text-muted">Nothing is changed yet.</p>;
  return (
    <ul className="grid gap-1">
      {changes.map((c) => (
        <li key={c.field}>
          <strong>{c.field}</strong>: {c.from} → {c.to}
        </li>
      ))}
    </ul>
  );
}
