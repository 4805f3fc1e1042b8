import { keepPreviousData, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { type UseFormReturn, useForm, useWatch } from "react-hook-form";
import { Link } from "react-router";
import { useDialog } from "../address";
import { api, ask, type Problem, type Schemas } from "../api";
import { asks, useMay } from "../asks";
import { FormDialog } from "../dialog";
import { readDraft, writeDraft } from "../draft";
import { count, keepText, plainSpan, span, when } from "../format";
import { useSettled } from "../settled";
import { Button, Card, Empty, Fault, Field, inputLook, Page, RowMenu, td, th } from "../ui";

type Tier = Schemas["Tier"];

const rests: Record<string, string> = {
  off: "as they are",
  try: "at rest if they can be",
  required: "at rest or no point",
};

/** TiersPage lists the named promises that groups follow. */
export function TiersPage() {
  const may = useMay();
  const dialog = useDialog<"new" | "edit" | "history">();
  const qc = useQueryClient();
  const list = useQuery(asks.tiers);
  const remove = useMutation({
    mutationFn: (id: string) => ask(api.DELETE("/tiers/{id}", { params: { path: { id } } })),
    onSuccess: () => qc.invalidateQueries({ queryKey: ["tiers"] }),
  });
  const copy = useMutation({
    mutationFn: (t: Tier) => {
      const { calendar: _, ...promise } = t.promise;
      return ask(
        api.POST("/tiers", {
          body: {
            name: t.name,
            promise,
            rtoTargetSeconds: t.rtoTargetSeconds,
            priority: t.priority,
            rest: t.rest,
            lockSeconds: t.lockSeconds,
            drillEverySeconds: t.drillEverySeconds,
          },
        }),
      );
    },
    onSuccess: () => qc.invalidateQueries({ queryKey: ["tiers"] }),
  });
  const me = useQuery(asks.me).data;
  const own = list.data?.filter((t) => t.site === me?.site) ?? [];
  const others = list.data?.filter((t) => t.site !== me?.site) ?? [];
  const chosen = own.find((t) => t.id === dialog.ids[0]);
  return (
    <Page
      crumbs={<Link to="/groups">Groups</Link>}
      title="Tiers"
      actions={
        may.administer ? (
          <Button kind="main" onClick={() => dialog.open("new")}>
            New tier…
          </Button>
        ) : undefined
      }
    >
      <Fault of={list.error ?? remove.error ?? copy.error} />
      {dialog.name === "new" && <TierDialog onClose={dialog.close} />}
      {dialog.name === "edit" && chosen && <TierDialog key={chosen.revision} of={chosen} onClose={dialog.close} />}
      <Card>
        {list.data && !own.length ? (
          <Empty>
            No tier yet. A tier is a promise with a name: groups that follow it move with it, and say why where they
            differ.
          </Empty>
        ) : (
          <Table
            tiers={own}
            menu={(t) =>
              may.administer
                ? [
                    { text: "Change…", act: () => dialog.open("edit", t.id) },
                    {
                      text: "Delete",
                      act: () => remove.mutate(t.id),
                      why: t.groups.length ? "Groups follow it." : undefined,
                    },
                  ]
                : []
            }
          />
        )}
      </Card>
      {others.length > 0 && (
        <Card title="Of paired sites" aside="followed by groups that come here">
          <Table
            tiers={others}
            site
            menu={(t) => (may.administer ? [{ text: "Make one like it here", act: () => copy.mutate(t) }] : [])}
          />
        </Card>
      )}
      {own.map((t) => (
        <Past key={t.id} t={t} />
      ))}
    </Page>
  );
}

function Table(p: {
  tiers: Tier[];
  site?: boolean;
  menu: (t: Tier) => { text: string; act: () => void; why?: string }[];
}) {
  return (
    <div className="overflow-x-auto">
      <table className="w-full">
        <thead>
          <tr>
            <th className={th}>Tier</th>
            <th className={th}>Targets</th>
            <th className={th}>Cycles</th>
            <th className={th}>Kept</th>
            <th className={th}>Besides</th>
            <th className={th}>Groups</th>
            <th className={th}>
              <span className="sr-only">Actions</span>
            </th>
          </tr>
        </thead>
        <tbody>
          {p.tiers.map((t) => (
            <tr key={t.id} className="border-line border-t">
              <td className={td}>
                <span className="whitespace-nowrap font-semibold">{t.name}</span>
                {p.site && <span className="block text-muted text-xs">{t.site}</span>}
                {t.warnings.map((w) => (
                  <span key={w.message} className="block text-tight-ink text-xs">
                    ◆ {w.message}
                  </span>
                ))}
              </td>
              <td className={`${td} whitespace-nowrap`}>
                RPO {span(t.promise.rpoTargetSeconds)}
                <span className="block text-muted text-xs">
                  RTO {t.rtoTargetSeconds ? span(t.rtoTargetSeconds) : "none"}
                </span>
              </td>
              <td className={td}>
                {t.promise.cadence}
                {t.promise.quiet && <span className="block text-muted text-xs">quiet {t.promise.quiet}</span>}
              </td>
              <td className={td}>{keepText(t.promise.keep)}</td>
              <td className={`${td} text-muted text-xs`}>
                priority {t.priority}
                {t.rest !== "off" && <span className="block">file systems {rests[t.rest]}</span>}
                {t.lockSeconds > 0 && <span className="block">locked for {span(t.lockSeconds)}</span>}
                {t.drillEverySeconds > 0 && <span className="block">drill every {span(t.drillEverySeconds)}</span>}
              </td>
              <td className={td}>
                {t.groups.map((g) => (
                  <div key={g.id}>
                    <Link to={`/groups/${g.id}`} className="font-semibold text-link">
                      {g.name}
                    </Link>
                    {g.differs.map((d) => (
                      <span key={d.field} className="block text-muted text-xs" title={`${d.own}, not ${d.tier}`}>
                        {d.field} differs: {d.reason}
                      </span>
                    ))}
                  </div>
                ))}
                {!t.groups.length && <span className="text-muted">none</span>}
              </td>
              <td className={td}>{p.menu(t).length > 0 && <RowMenu of={t.name} items={p.menu(t)} />}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}

/** Past is what a tier was. */
function Past({ t }: { t: Tier }) {
  const [open, setOpen] = useState(false);
  const q = useQuery({
    queryKey: ["tiers", t.id, t.revision],
    queryFn: () => ask(api.GET("/tiers/{id}", { params: { path: { id: t.id } } })),
    enabled: open,
  });
  return (
    <details
      className="rounded-md border border-line bg-card px-4 py-2"
      onToggle={(e) => setOpen(e.currentTarget.open)}
    >
      <summary className="cursor-pointer">
        What {t.name} was <span className="text-muted text-xs">revision {t.revision}</span>
      </summary>
      <Fault of={q.error} />
      <ol className="mt-2 grid gap-1">
        {q.data?.history?.map((h) => (
          <li key={h.revision}>
            <span className="text-muted text-xs">
              {h.revision} · {when(h.at)} · {h.who}
            </span>{" "}
            {h.changes.length ? h.changes.map((c) => `${c.field}: ${c.from} → ${c.to}`).join("; ") : "made"}
          </li>
        ))}
      </ol>
    </details>
  );
}

type Values = {
  name: string;
  rpo: string;
  rto: string;
  every: string;
  quiet: string;
  zone: string;
  keep: string;
  least: string;
  priority: string;
  rest: string;
  lock: string;
  drill: string;
};

const valuesOf = (t?: Tier): Values =>
  t
    ? {
        name: t.name,
        rpo: plainSpan(t.promise.rpoTargetSeconds),
        rto: t.rtoTargetSeconds ? String(t.rtoTargetSeconds / 60) : "",
        every: t.promise.cadenceSeconds ? plainSpan(t.promise.cadenceSeconds) : (t.promise.cadence ?? "hand"),
        quiet: t.promise.quiet ?? "",
        zone: t.promise.zone ?? "UTC",
        keep: keepText(t.promise.keep),
        least: t.promise.leastPoints ? String(t.promise.leastPoints) : "",
        priority: t.priority,
        rest: t.rest,
        lock: t.lockSeconds ? String(t.lockSeconds / 86400) : "",
        drill: t.drillEverySeconds ? String(t.drillEverySeconds / 86400) : "",
      }
    : {
        name: "",
        rpo: "15 min",
        rto: "",
        every: "5 min",
        quiet: "",
        zone: Intl.DateTimeFormat().resolvedOptions().timeZone || "UTC",
        keep: "all 6h, 1h 2d, 1d 14d",
        least: "",
        priority: "normal",
        rest: "off",
        lock: "",
        drill: "",
      };

const bodyOf = (v: Values) => ({
  name: v.name,
  promiseText: {
    rpoTarget: v.rpo,
    cadence: v.every,
    quiet: v.quiet.trim() || "none",
    zone: v.zone.trim() || "UTC",
    keep: v.keep,
    leastPoints: Number(v.least) || 0,
  },
  rtoTargetSeconds: Math.round((Number(v.rto) || 0) * 60),
  priority: v.priority,
  rest: v.rest,
  lockSeconds: Math.round((Number(v.lock) || 0) * 86400),
  drillEverySeconds: Math.round((Number(v.drill) || 0) * 86400),
});

/** TierDialog makes a tier, or changes one with what that makes of its groups. */
function TierDialog({ of, onClose }: { of?: Tier; onClose: () => void }) {
  const qc = useQueryClient();
  const key = `tier ${of ? `${of.id} ${of.revision}` : "new"}`;
  const [first] = useState(() => readDraft<Values>(key) ?? valuesOf(of));
  const form = useForm<Values>({ defaultValues: first });
  const v = useWatch({ control: form.control }) as Values;
  const typed = JSON.stringify(v) !== JSON.stringify(valuesOf(of));
  useEffect(() => writeDraft(key, typed ? v : undefined), [key, typed, v]);
  const close = () => {
    writeDraft(key, undefined);
    onClose();
  };
  const settled = useSettled(JSON.stringify(bodyOf(v)));
  const [drop, setDrop] = useState(false);
  const preview = useQuery({
    queryKey: ["tier-preview", of?.id, settled],
    queryFn: () =>
      ask(api.POST("/tiers/{id}/preview", { params: { path: { id: of?.id ?? "" } }, body: JSON.parse(settled) })),
    enabled: !!of,
    placeholderData: keepPreviousData,
    retry: false,
  });
  const drops = preview.data?.groups.reduce((n, g) => n + g.dropsPoints, 0) ?? 0;
  const barred = !!preview.data?.groups.some((g) => g.faults.length);
  return (
    <FormDialog
      title={of ? `Change ${of.name}` : "New tier"}
      form={form}
      act={(x) =>
        of
          ? ask(
              api.PATCH("/tiers/{id}", {
                params: { path: { id: of.id } },
                body: { ...bodyOf(x), dropPoints: drop || undefined },
              }),
            )
          : ask(api.POST("/tiers", { body: bodyOf(x) }))
      }
      done={() => {
        qc.invalidateQueries({ queryKey: ["tiers"] });
        qc.invalidateQueries({ queryKey: ["groups"] });
        close();
      }}
      onClose={close}
      go={of ? "Save" : "Make the tier"}
      ready={!barred && !(drops > 0 && !drop) && !(of && !preview.data?.changes.length)}
    >
      {(refusal) => (
        <>
          <Fields form={form} refusal={refusal} />
          {of && preview.data && (
            <Moves v={preview.data} drops={drops} drop={drop} setDrop={setDrop} followers={of.groups.length} />
          )}
        </>
      )}
    </FormDialog>
  );
}

function Fields({ form, refusal }: { form: UseFormReturn<Values>; refusal?: Problem }) {
  const text = (name: keyof Values, label: string, field: string, hint?: string) => (
    <Field label={label} hint={hint} faults={refusal?.at(field)}>
      {(i, d) => (
        <input id={i} aria-describedby={d} autoComplete="off" className={inputLook} {...form.register(name)} />
      )}
    </Field>
  );
  return (
    <div className="grid gap-3 sm:grid-cols-2">
      {text("name", "Name", "name", "What people call it, such as Harbour-1.")}
      {text("rpo", "RPO target", "promise.rpoTargetSeconds", "The most that may be lost, in time.")}
      {text(
        "every",
        "Cycles start every, or at",
        "promise.cadenceSeconds",
        "5 min, back to back, weekdays at 02:00, hand.",
      )}
      {text("quiet", "Quiet times", "promise.quiet", "Such as mon-fri 08:00-18:00.")}
      {text("zone", "Time zone", "promise.zone")}
      {text("keep", "Keep ladder", "promise.keep")}
      {text("least", "Always kept", "promise.leastPoints", "The newest points; empty for one.")}
      {text("rto", "RTO target, minutes", "rtoTargetSeconds", "How long a recovery may take; empty for none.")}
      {text("drill", "Drill every, days", "drillEverySeconds", "Empty for never.")}
      {text("lock", "Lock points, days", "lockSeconds", "Nobody deletes them before; empty for not at all.")}
      <Field label="Priority" faults={refusal?.at("priority")}>
        {(i) => (
          <select id={i} className={inputLook} {...form.register("priority")}>
            <option value="high">high</option>
            <option value="normal">normal</option>
            <option value="low">low</option>
          </select>
        )}
      </Field>
      <Field label="File systems" faults={refusal?.at("rest")}>
        {(i) => (
          <select id={i} className={inputLook} {...form.register("rest")}>
            {Object.entries(rests).map(([k, t]) => (
              <option key={k} value={k}>
                {t}
              </option>
            ))}
          </select>
        )}
      </Field>
    </div>
  );
}

/** Moves is what a change makes of the groups that follow a tier. */
function Moves(p: {
  v: Schemas["TierPreview"];
  drops: number;
  drop: boolean;
  setDrop: (d: boolean) => void;
  followers: number;
}) {
  return (
    <div className="grid gap-1.5 rounded-md border border-line p-3">
      <strong>
        {p.v.changes.length ? `What it makes of ${count(p.followers, "group")}` : "Nothing is changed yet."}
      </strong>
      {p.v.faults.map((f) => (
        <div key={f.field + f.message} className="text-over-ink text-xs">
          ✕ {f.message}
        </div>
      ))}
      {p.v.changes.length > 0 &&
        p.v.groups.map((g) => (
          <div key={g.id}>
            <span className="font-medium">{g.name}</span>{" "}
            <span className="text-muted text-xs">
              {g.changes.map((c) => `${c.field}: ${c.from} → ${c.to}`).join("; ") ||
                (g.faults.length ? "" : "nothing: all of it is its own")}
            </span>
            {g.faults.map((f) => (
              <div key={f.field + f.message} className="text-over-ink text-xs">
                ✕ {f.message}
              </div>
            ))}
            {g.dropsPoints > 0 && (
              <div className="text-tight-ink text-xs">
                ◆ {count(g.dropsPoints, "point")} would go at once
                {g.dropsNumbers?.length ? `: ${g.dropsNumbers.slice(0, 12).join(", ")}` : ""}
              </div>
            )}
          </div>
        ))}
      {p.drops > 0 && (
        <label className="flex items-baseline gap-2">
          <input type="checkbox" checked={p.drop} onChange={(e) => p.setDrop(e.target.checked)} />
          Let {count(p.drops, "point")} go at once
        </label>
      )}
    </div>
  );
}
