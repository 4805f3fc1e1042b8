import { keepPreviousData, useQuery, useQueryClient } from "@tanstack/react-query";
import { useForm, useWatch } from "react-hook-form";
import { useNavigate } from "react-router";
import { api, ask, type Group, Problem, type Schemas } from "../api";
import { FormDialog } from "../dialog";
import { count, span } from "../format";
import { useSettled } from "../settled";
import { Fault, Field, inputLook, When } from "../ui";
import { PlannedWaves } from "./recoveryparts";
import { PlannedSteps } from "./runbook";

const lengths: [string, number][] = [
  ["30 minutes", 1800],
  ["2 hours", 7200],
  ["8 hours", 28800],
  ["a day", 86400],
];

type Values = { choose: string; before: string; ends: string; insist: boolean; name: string; reason: string };

function asked(v: Values): Schemas["NewDrill"] {
  return {
    choose: v.choose as "newest",
    before: v.choose === "before" && v.before ? new Date(v.before).toISOString() : undefined,
    once: v.ends === "once",
    forSeconds: v.ends === "once" ? undefined : Number(v.ends),
    insist: v.insist ? { group: v.name, reason: v.reason } : undefined,
  };
}

/** DrillDialog starts a drill of a group, and says before what it would do. */
export function DrillDialog({ g, onClose }: { g: Group; onClose: () => void }) {
  const go = useNavigate();
  const qc = useQueryClient();
  const form = useForm<Values>({
    defaultValues: { choose: "newest", before: "", ends: "7200", insist: false, name: "", reason: "" },
  });
  const v = useWatch({ control: form.control }) as Values;
  const text = useSettled(JSON.stringify(asked(v)));
  const ready = v.choose !== "before" || !!v.before;
  const plan = useQuery({
    queryKey: ["drills", "plan", g.id, text],
    queryFn: () =>
      ask(api.POST("/groups/{id}/drills/plan", { params: { path: { id: g.id } }, body: JSON.parse(text) })),
    enabled: ready,
    placeholderData: keepPreviousData,
    retry: false,
    gcTime: 0,
  });
  const refused = plan.error instanceof Problem ? plan.error : undefined;
  const open = refused?.at("insist") ?? [];
  const other = refused && !refused.errors.some((e) => e.field.startsWith("insist")) ? refused : undefined;
  const p = plan.error ? undefined : plan.data;
  return (
    <FormDialog
      title={`Try a recovery of ${g.name}`}
      intro={
        <>
          Its machines arrive here in the drill networks of its berth and are checked, wave by wave. {g.home} is left
          alone; in the end every trace is removed.
        </>
      }
      form={form}
      act={(x) => ask(api.POST("/groups/{id}/drills", { params: { path: { id: g.id } }, body: asked(x) }))}
      done={(d) => {
        qc.invalidateQueries({ queryKey: ["drills"] });
        go(`/drills/${d.id}`);
      }}
      onClose={onClose}
      go="Start the drill"
      ready={!!p}
    >
      {(refusal) => (
        <>
          <div className="grid gap-3 sm:grid-cols-2">
            <Field label="From" faults={refusal?.at("choose")}>
              {(id) => (
                <select id={id} className={inputLook} {...form.register("choose")}>
                  <ChoiceOptions />
                  <option value="before">the newest before a time</option>
                </select>
              )}
            </Field>
            <Field label="Ends by itself">
              {(id) => (
                <select id={id} className={inputLook} {...form.register("ends")}>
                  {lengths.map(([t, s]) => (
                    <option key={s} value={s}>
                      after {t}
                    </option>
                  ))}
                  <option value="once">when all is checked</option>
                </select>
              )}
            </Field>
            {v.choose === "before" && (
              <Field label="Before" faults={refusal?.at("before")}>
                {(id) => <input id={id} type="datetime-local" className={inputLook} {...form.register("before")} />}
              </Field>
            )}
          </div>
          <Fault of={other} />
          {open.length > 0 && !v.insist && (
            <div role="alert" className="rounded-md border border-over bg-over-bg px-3 py-2 text-over-ink">
              {open.map((t) => (
                <div key={t}>✕ {t}</div>
              ))}
            </div>
          )}
          {(open.length > 0 || v.insist) && (
            <div className="grid gap-2 rounded-md border border-line p-3">
              <label className="flex items-baseline gap-2">
                <input type="checkbox" {...form.register("insist")} /> I insist, and the record keeps why
              </label>
              {v.insist && (
                <div className="grid gap-3 sm:grid-cols-2">
                  <Field label={`The group's name, ${g.name}`} faults={refused?.at("insist.group")}>
                    {(id) => <input id={id} className={inputLook} autoComplete="off" {...form.register("name")} />}
                  </Field>
                  <Field label="Why" faults={refused?.at("insist.reason")}>
                    {(id) => <input id={id} className={inputLook} autoComplete="off" {...form.register("reason")} />}
                  </Field>
                </div>
              )}
            </div>
          )}
          {p && <Plan p={p} />}
        </>
      )}
    </FormDialog>
  );
}

function Plan({ p }: { p: Schemas["DrillPlan"] }) {
  return (
    <div className="grid gap-2 rounded-md bg-still-bg/60 p-3 text-xs">
      <div>
        Point {p.pointNumber}, captured <When at={p.captureAt} />, {p.consistency}-consistent. A recovery from it would
        lose {span(p.losesSeconds)}.
      </div>
      <PlannedWaves of={p.machines} />
      <PlannedSteps of={p.runbook} />
      <div className="text-muted">
        {count(p.machines.length, "machine")}
        {p.rtoTargetSeconds > 0 && `; RTO target ${span(p.rtoTargetSeconds)}`}
        {p.lastTookSeconds !== undefined &&
          `; all ran after ${p.lastTookSeconds < 1 ? "a moment" : span(p.lastTookSeconds)} in the last that passed`}
        .
      </div>
    </div>
  );
}

/** choices are the points that a drill can be told to start from, in words. */
export const choices: Record<string, string> = {
  newest: "the newest point",
  application: "the newest application-consistent",
  proved: "the newest that a drill proved",
  calm: "the newest before unusual change",
};

/** ChoiceOptions are choices to select from. */
export function ChoiceOptions() {
  return Object.entries(choices).map(([k, text]) => (
    <option key={k} value={k}>
      {text}
    </option>
  ));
}
