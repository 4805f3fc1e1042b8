import { keepPreviousData, useQuery, useQueryClient } from "@tanstack/react-query";
import { useForm, useWatch } from "react-hook-form";
import { useNavigate } from "react-router";
import { api, ask, type Group, type Schemas } from "../api";
import { ConfirmDialog, FormDialog, NameField } from "../dialog";
import { count, span } from "../format";
import { useSettled } from "../settled";
import { Fault, Field, inputLook, When } from "../ui";
import { ChoiceOptions } from "./drilldialog";
import { PlannedWaves } from "./recoveryparts";
import { PlannedSteps } from "./runbook";

type Values = {
  kind: string;
  choose: string;
  before: string;
  force: boolean;
  down: string;
  reason: string;
  name: string;
  leave: string[];
  inPlace: boolean;
};

function asked(v: Values, g: Group): Schemas["NewFailover"] {
  const machines = v.leave.length ? g.machines.filter((m) => !v.leave.includes(m.id)).map((m) => m.id) : undefined;
  const inPlace = v.inPlace || undefined;
  if (v.kind === "planned") return { planned: true, force: v.force, downSeconds: Number(v.down), machines, inPlace };
  return {
    planned: false,
    machines,
    inPlace,
    choose: v.choose,
    before: v.choose === "before" && v.before ? new Date(v.before).toISOString() : undefined,
  };
}

/** FailoverDialog starts a failover of a group to this site, and says before what it would do. */
export function FailoverDialog({ g, onClose }: { g: Group; onClose: () => void }) {
  const go = useNavigate();
  const qc = useQueryClient();
  // Of a group that has ended there is no home that could be asked.
  const ended = g.direction === "ended";
  const form = useForm<Values>({
    defaultValues: {
      kind: ended ? "unplanned" : "planned",
      choose: "newest",
      before: "",
      force: false,
      down: "300",
      reason: "",
      name: "",
      leave: [],
      inPlace: false,
    },
  });
  const v = useWatch({ control: form.control }) as Values;
  const text = useSettled(JSON.stringify(asked(v, g)));
  const plan = useQuery({
    queryKey: ["failovers", "plan", g.id, text],
    queryFn: () =>
      ask(api.POST("/groups/{id}/failovers/plan", { params: { path: { id: g.id } }, body: JSON.parse(text) })),
    enabled: v.choose !== "before" || !!v.before || v.kind === "planned",
    placeholderData: keepPreviousData,
    retry: false,
    gcTime: 0,
  });
  const p = plan.error ? undefined : plan.data;
  const despite = v.kind !== "planned" && !!p?.homeAnswers;
  return (
    <FormDialog
      title={`Run ${g.name} here`}
      intro={<>Its machines start here, as its berth says. Then somebody accepts it, or backs out.</>}
      form={form}
      act={(x) =>
        ask(
          api.POST("/groups/{id}/failovers", {
            params: { path: { id: g.id } },
            body: { ...asked(x, g), confirm: x.name, reason: despite ? x.reason : undefined },
          }),
        )
      }
      done={(f) => {
        qc.invalidateQueries({ queryKey: ["failovers"] });
        go(`/failovers/${f.id}`);
      }}
      onClose={onClose}
      go="Start the failover"
      danger
      ready={!!p && v.name === g.name && (!despite || !!v.reason.trim())}
    >
      {(refusal) => (
        <>
          <Field label="How">
            {(id) => (
              <select id={id} className={inputLook} {...form.register("kind")}>
                {!ended && (
                  <option value="planned">planned: last changes first, {g.home} is shut down, nothing is lost</option>
                )}
                <option value="unplanned">not planned: nothing is asked of {g.home}</option>
              </select>
            )}
          </Field>
          {v.kind === "planned" ? (
            <div className="grid gap-3 sm:grid-cols-2">
              <Field label={`Machines at ${g.home} have`} faults={refusal?.at("downSeconds")}>
                {(id) => (
                  <select id={id} className={inputLook} {...form.register("down")}>
                    <option value="60">a minute to shut down</option>
                    <option value="300">5 minutes to shut down</option>
                    <option value="1800">30 minutes to shut down</option>
                  </select>
                )}
              </Field>
              <label className="flex items-baseline gap-2 self-end pb-2">
                <input type="checkbox" {...form.register("force")} /> then switch them off
              </label>
            </div>
          ) : (
            <div className="grid gap-3 sm:grid-cols-2">
              <Field label="From" faults={refusal?.at("choose")}>
                {(id) => (
                  <select id={id} className={inputLook} {...form.register("choose")}>
                    <ChoiceOptions />
                    <option value="before">the newest before a time</option>
                  </select>
                )}
              </Field>
              {v.choose === "before" && (
                <Field label="Before" faults={refusal?.at("before")}>
                  {(id) => <input id={id} type="datetime-local" className={inputLook} {...form.register("before")} />}
                </Field>
              )}
            </div>
          )}
          {g.machines.length > 1 && (
            <details className="text-[13px]">
              <summary className="cursor-pointer font-semibold">
                {v.leave.length ? `Without ${count(v.leave.length, "machine")}` : "All of its machines"}
              </summary>
              <fieldset className="grid gap-1 pt-2 sm:grid-cols-2">
                <legend className="text-muted text-xs">
                  What is ticked is left out: it does not start here, and a planned failover shuts it down as well.
                </legend>
                {g.machines.map((m) => (
                  <label key={m.id} className="flex items-baseline gap-2">
                    <input type="checkbox" value={m.id} {...form.register("leave")} /> {m.name}
                  </label>
                ))}
              </fieldset>
            </details>
          )}
          {g.former && (
            <label className="flex items-baseline gap-2">
              <input type="checkbox" {...form.register("inPlace")} /> in place of the old{" "}
              {g.former.length === 1 ? "machine" : "machines"} here, {g.former.join(", ")}
            </label>
          )}
          {["machines", "inPlace"]
            .flatMap((f) => refusal?.at(f) ?? [])
            .map((t) => (
              <p key={t} className="text-over-ink text-xs">
                ✕ {t}
              </p>
            ))}
          <Fault of={plan.error} />
          {p && <Plan p={p} />}
          {despite && (
            <Field label={`Why it is not planned although ${g.home} answers`} faults={refusal?.at("reason")}>
              {(id) => <input id={id} className={inputLook} autoComplete="off" {...form.register("reason")} />}
            </Field>
          )}
          <NameField of={g.name} faults={refusal?.at("confirm")} {...form.register("name")} />
        </>
      )}
    </FormDialog>
  );
}

function Plan({ p }: { p: Schemas["FailoverPlan"] }) {
  const grave = !p.planned;
  return (
    <div
      className={`grid gap-2 rounded-md border p-3 text-xs ${grave ? "border-tight bg-tight-bg text-tight-ink" : "border-line bg-still-bg/60"}`}
    >
      <ul className="grid gap-1">
        {[...p.known, ...p.costs].map((t) => (
          <li key={t}>
            {grave ? "◆ " : ""}
            {t}
          </li>
        ))}
      </ul>
      <div>
        {p.planned ? `The newest point now is ${p.pointNumber}` : `Point ${p.pointNumber}`}, captured{" "}
        <When at={p.captureAt} />, {p.consistency}-consistent.
      </div>
      <PlannedWaves of={p.machines} />
      <PlannedSteps of={p.runbook} />
      <div>
        {count(p.machines.length, "machine")}
        {p.rtoTargetSeconds > 0 && `; RTO target ${span(p.rtoTargetSeconds)}`}
        {p.lastTookSeconds !== undefined &&
          `; all ran after ${p.lastTookSeconds < 1 ? "a moment" : span(p.lastTookSeconds)} the last time`}
        .
      </div>
    </div>
  );
}

/** FormerDialog shuts down what a group has here still while it runs at the other site. */
export function FormerDialog({ g, onClose }: { g: Group; onClose: () => void }) {
  const qc = useQueryClient();
  return (
    <ConfirmDialog
      title={`Shut down what ${g.name} has here`}
      intro={
        <>
          {(g.runsHere ?? []).join(", ")} run here although the group runs at the other site. Their guests are asked to
          shut down; what they have written here since then is not over there.
        </>
      }
      ask="the group's name"
      name={g.name}
      act={() => ask(api.POST("/groups/{id}/former-machines/shut-down", { params: { path: { id: g.id } }, body: {} }))}
      done={() => {
        qc.invalidateQueries({ queryKey: ["group", g.id] });
        onClose();
      }}
      onClose={onClose}
      stay="Let them run"
      go="Shut them down"
    />
  );
}

/** RemoveFormerDialog removes what a group had here before it became home at the other site. */
export function RemoveFormerDialog({ g, onClose }: { g: Group; onClose: () => void }) {
  const qc = useQueryClient();
  return (
    <ConfirmDialog
      title={`Remove the old machines of ${g.name}`}
      intro={
        <>
          {(g.former ?? []).join(", ")}: removed here, with their disks. It cannot be taken back. Left alone they are in
          nobody's way: a way back makes new machines, or takes their places if it is asked to.
        </>
      }
      ask="the group's name"
      name={g.name}
      act={() =>
        ask(
          api.POST("/groups/{id}/former-machines/remove", {
            params: { path: { id: g.id } },
            body: { confirm: g.name },
          }),
        )
      }
      done={() => {
        qc.invalidateQueries({ queryKey: ["group", g.id] });
        onClose();
      }}
      onClose={onClose}
      stay="Keep them"
      go="Remove them"
    />
  );
}
