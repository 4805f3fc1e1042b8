import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { type ReactNode, useState } from "react";
import { type UseFormReturn, useWatch } from "react-hook-form";
import { api, ask, Problem, type Schemas } from "../api";
import { count, size } from "../format";
import { Card, Field, inputLook } from "../ui";
import type { Values } from "./groupform";

type Machine = Schemas["Machine"];

/** RestValues is how a machine is brought to rest, as it is typed. */
export type RestValues = { mode: string; limit: string; nth: string; before: string; after: string };

export const noRest: RestValues = { mode: "", limit: "", nth: "", before: "", after: "" };

/** restOf reads how a machine is brought to rest. */
export const restOf = (q?: Schemas["Quiesce"]): RestValues =>
  q
    ? {
        mode: q.mode,
        limit: q.limitSeconds ? String(q.limitSeconds) : "",
        nth: q.everyNth ? String(q.everyNth) : "",
        before: q.before ?? "",
        after: q.after ?? "",
      }
    : noRest;

/** quiesceOf writes it for the service, of the machines that are chosen. */
export const quiesceOf = (rest: Record<string, RestValues>, machines: string[]): Schemas["QuiesceOf"][] =>
  machines.flatMap((machine) => {
    const r = rest[machine];
    if (!r?.mode) return [];
    return [
      {
        machine,
        mode: r.mode,
        limitSeconds: Number(r.limit) || undefined,
        everyNth: Number(r.nth) || undefined,
        before: r.before || undefined,
        after: r.after || undefined,
      },
    ];
  });

/** Unfold is open from the start or not, and then as people leave it: who empties a field in it is not shut out. */
function Unfold(p: { start: boolean; className: string; children: ReactNode }) {
  const [open, setOpen] = useState(p.start);
  return (
    <details className={p.className} open={open} onToggle={(e) => setOpen(e.currentTarget.open)}>
      {p.children}
    </details>
  );
}

/** Rule is the condition by which machines join, with what it matches as it is typed. */
export function Rule(p: { form: UseFormReturn<Values>; group?: string; faults: string[]; settled: Values }) {
  const { rule, order } = p.settled;
  const preview = useQuery({
    queryKey: ["rule", rule, order, p.group],
    queryFn: () =>
      ask(api.POST("/rules/preview", { body: { match: rule, order: Number(order) || undefined, group: p.group } })),
    enabled: rule.trim() !== "",
    placeholderData: keepPreviousData,
    retry: false,
  });
  const v = rule.trim() && !preview.error ? preview.data : undefined;
  return (
    <Unfold className="rounded-md border border-line px-3 py-1.5" start={!!rule}>
      <summary className="cursor-pointer font-medium">Let machines join by a rule</summary>
      <div className="grid gap-2 py-2 sm:grid-cols-[1fr_6rem]">
        <Field
          label="Rule"
          hint="Such as: folder /harbour and tag gold and not name *-test. Or: any, to catch the rest."
          faults={[
            ...new Set([
              ...(rule.trim() && preview.error instanceof Problem ? preview.error.at("match") : []),
              ...p.faults,
            ]),
          ]}
        >
          {(i, d) => (
            <input id={i} aria-describedby={d} autoComplete="off" className={inputLook} {...p.form.register("rule")} />
          )}
        </Field>
        <Field label="Order" hint="The lowest goes first.">
          {(i, d) => (
            <input
              id={i}
              aria-describedby={d}
              inputMode="numeric"
              className={inputLook}
              {...p.form.register("order")}
            />
          )}
        </Field>
      </div>
      {v && (
        <div className="grid gap-1 pb-2 text-xs">
          <p>
            It matches {count(v.machines.length, "machine")} now, of which {v.joins} would join. A machine that comes
            later and matches joins by itself; one that no longer matches is kept until somebody decides.
          </p>
          {v.machines.length > 0 && (
            <ul className="grid max-h-40 gap-0.5 overflow-auto">
              {v.machines.map((m) => (
                <li key={m.platformName + m.machine} className="flex gap-2">
                  <span className="w-36 shrink-0 truncate font-medium">{m.name}</span>
                  <span className={m.joins ? "" : "text-muted"}>
                    {m.joins ? "✓ " : "– "}
                    {m.becomes}
                  </span>
                </li>
              ))}
            </ul>
          )}
        </div>
      )}
    </Unfold>
  );
}

/** Disks says which disks of the chosen machines are copied. */
export function Disks(p: { form: UseFormReturn<Values>; machines: Machine[]; faults: string[] }) {
  const without = useWatch({ control: p.form.control, name: "without" });
  const bootToo = useWatch({ control: p.form.control, name: "bootToo" });
  const shown = p.machines.filter((m) => m.disks.length > 1 || m.disks.some((d) => d.untrackable));
  if (!shown.length) return null;
  const id = (m: Machine, d: Schemas["MachineDisk"]) => `${m.id}:${d.key}`;
  const boots = shown.flatMap((m) => m.disks.filter((d) => d.boot && without.includes(id(m, d))).map(() => m.name));
  return (
    <Card title="Disks" aside={without.length ? `${count(without.length, "disk")} left out` : "all are copied"}>
      <div className="grid gap-3 p-4">
        <p className="text-muted text-xs">
          What is left out is not copied. Where the machine is started from a point, the disk is there, as large as it
          was and empty.
        </p>
        {shown.map((m) => (
          <fieldset key={m.id} className="grid gap-0.5">
            <legend className="font-medium">{m.name}</legend>
            {m.disks.map((d) => (
              <label key={d.key} className="flex items-baseline gap-2">
                <input
                  type="checkbox"
                  checked={!without.includes(id(m, d))}
                  onChange={(e) =>
                    p.form.setValue(
                      "without",
                      e.target.checked ? without.filter((x) => x !== id(m, d)) : [...without, id(m, d)],
                      { shouldDirty: true },
                    )
                  }
                />
                <span>
                  copy {d.label}{" "}
                  <span className="text-muted text-xs">
                    {size(d.usedBytes)} of {size(d.sizeBytes)}
                    {d.boot ? " · it starts from it" : ""}
                    {d.untrackable ? ` · ✕ ${d.untrackable}` : ""}
                  </span>
                  {d.suggest && <span className="block text-xs">◇ May be left out: {d.suggest}</span>}
                </span>
              </label>
            ))}
          </fieldset>
        ))}
        {boots.length > 0 && (
          <label className="flex items-start gap-2 rounded bg-tight-bg px-2.5 py-1.5 text-tight-ink">
            <input
              type="checkbox"
              className="mt-1"
              checked={bootToo}
              onChange={(e) => p.form.setValue("bootToo", e.target.checked)}
            />
            <span>I know that {boots.join(", ")} will not start at the recovery site without that disk</span>
          </label>
        )}
        {p.faults.map((t) => (
          <div key={t} className="text-over-ink text-xs">
            ✕ {t}
          </div>
        ))}
        <Field label="Disks that are added later">
          {(i) => (
            <select id={i} className={`${inputLook} max-w-md`} {...p.form.register("newDisks")}>
              <option value="copy">are copied, and the activity says so</option>
              <option value="flag">are flagged, and not copied until somebody decides</option>
            </select>
          )}
        </Field>
      </div>
    </Card>
  );
}

/** Rest is what guests notice of a capture, where they can be asked. */
export function Rest({
  form,
  machines,
  faults,
}: {
  form: UseFormReturn<Values>;
  machines: Machine[];
  faults: string[];
}) {
  const rest = useWatch({ control: form.control, name: "rest" });
  const able = machines.filter((m) => m.agent === "answers" || m.agent === "silent" || rest[m.id]);
  const set = (id: string, change: Partial<RestValues>) =>
    form.setValue("rest", { ...rest, [id]: { ...(rest[id] ?? noRest), ...change } }, { shouldDirty: true });
  if (!machines.length) return null;
  return (
    <Card title="At each capture" aside="what the guests notice">
      <div className="grid gap-3 p-4">
        {!able.length && (
          <p className="text-muted">
            None of these machines has a guest agent that could bring its file systems to rest: points are as after a
            power cut.
          </p>
        )}
        {able.map((m) => {
          const r = rest[m.id] ?? noRest;
          return (
            <div key={m.id} className="grid gap-1">
              <label className="flex flex-wrap items-baseline gap-2">
                <span className="w-36 shrink-0 truncate font-medium">{m.name}</span>
                <select
                  aria-label={`File systems of ${m.name}`}
                  className={`${inputLook} !w-auto`}
                  value={r.mode}
                  onChange={(e) => set(m.id, { mode: e.target.value })}
                >
                  <option value="">as the group, below</option>
                  <option value="off">captured as it is</option>
                  <option value="try">file systems at rest, if they can be</option>
                  <option value="required">file systems at rest, or no point</option>
                </select>
                {m.agent === "silent" && (
                  <span className="text-tight-ink text-xs">◆ its agent does not answer now</span>
                )}
              </label>
              {(r.mode === "try" || r.mode === "required") && (
                <Unfold className="ml-38" start={!!(r.limit || r.nth || r.before || r.after)}>
                  <summary className="cursor-pointer text-muted text-xs">Time limit, how often, commands</summary>
                  <div className="grid gap-2 py-2 sm:grid-cols-2">
                    <Field label="It may take, in seconds" hint="Empty: what the platform gives.">
                      {(i, d) => (
                        <input
                          id={i}
                          aria-describedby={d}
                          inputMode="numeric"
                          className={inputLook}
                          value={r.limit}
                          onChange={(e) => set(m.id, { limit: e.target.value })}
                        />
                      )}
                    </Field>
                    <Field label="At one of so many captures" hint="Empty: at each.">
                      {(i, d) => (
                        <input
                          id={i}
                          aria-describedby={d}
                          inputMode="numeric"
                          className={inputLook}
                          value={r.nth}
                          onChange={(e) => set(m.id, { nth: e.target.value })}
                        />
                      )}
                    </Field>
                    <Field label="Command before" hint="Its agent runs it in the guest.">
                      {(i, d) => (
                        <input
                          id={i}
                          aria-describedby={d}
                          className={inputLook}
                          value={r.before}
                          onChange={(e) => set(m.id, { before: e.target.value })}
                        />
                      )}
                    </Field>
                    <Field label="Command after" hint="It runs whatever came of the one before.">
                      {(i, d) => (
                        <input
                          id={i}
                          aria-describedby={d}
                          className={inputLook}
                          value={r.after}
                          onChange={(e) => set(m.id, { after: e.target.value })}
                        />
                      )}
                    </Field>
                  </div>
                </Unfold>
              )}
            </div>
          );
        })}
        {able.length > 0 && (
          <div className="text-muted text-xs">
            The guest agent flushes and holds all writes for the moment of the capture, some tenths of a second. If it
            may fail, the machine is captured as it is, and the point says so.
          </div>
        )}
        {faults.map((t) => (
          <div key={t} className="text-over-ink text-xs">
            ✕ {t}
          </div>
        ))}
        <label className="flex flex-wrap items-baseline gap-2">
          <span>Machines of which nothing else is said, and those that join</span>
          <select className={`${inputLook} !w-auto`} {...form.register("restMode")}>
            <option value="off">captured as they are</option>
            <option value="try">file systems at rest, if they can be</option>
            <option value="required">file systems at rest, or no point</option>
          </select>
        </label>
        {machines.length > 1 && (
          <label className="flex items-baseline gap-2">
            <input type="checkbox" {...form.register("together")} />
            <span>
              One instant for all{" "}
              <span className="text-muted text-xs">
                machines that are not at rest are held still for a moment; without this, each may have an instant of its
                own
              </span>
            </span>
          </label>
        )}
      </div>
    </Card>
  );
}
