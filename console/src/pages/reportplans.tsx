import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useForm } from "react-hook-form";
import { Link } from "react-router";
import { useDialog } from "../address";
import { api, ask, type Schemas } from "../api";
import { asks, useMay } from "../asks";
import { FormDialog } from "../dialog";
import { Empty, Fault, Field, Heads, inputLook, RowMenu, td, When } from "../ui";

type Plan = Schemas["ReportPlan"];

const plans = {
  queryKey: ["report-plans"],
  queryFn: () => ask(api.GET("/report-plans")),
  refetchInterval: 15_000,
};

/** Plans lists the reports that are sent by calendar. */
export function Plans() {
  const may = useMay();
  const qc = useQueryClient();
  const q = useQuery(plans);
  const dialog = useDialog<"plan">();
  const again = () => qc.invalidateQueries({ queryKey: ["report-plans"] });
  const send = useMutation({
    mutationFn: (p: Plan) => ask(api.POST("/report-plans/{id}/send", { params: { path: { id: p.id } } })),
  });
  const remove = useMutation({
    mutationFn: (p: Plan) => ask(api.DELETE("/report-plans/{id}", { params: { path: { id: p.id } } })),
    onSuccess: again,
  });
  const chosen = dialog.name === "plan" ? q.data?.find((p) => p.id === dialog.ids[0]) : undefined;
  return (
    <>
      <Fault of={q.error ?? send.error ?? remove.error} />
      {send.isSuccess && (
        <p role="status" className="px-4 py-2 text-good-ink">
          ● {send.variables.name} is on its way. <Link to="/alerts?show=channels">How the deliveries went</Link>
        </p>
      )}
      {chosen && <PlanDialog of={chosen} onClose={dialog.close} />}
      {q.data?.length === 0 ? (
        <Empty>No report is sent by itself. Mails carry the document; webhooks are told the summary.</Empty>
      ) : (
        <div className="overflow-x-auto">
          <table className="w-full">
            <Heads of={["Report", "Of the last", "Sent", "To", "Next", "Last", ""]} />
            <tbody>
              {q.data?.map((p) => (
                <tr key={p.id} className="border-line border-t">
                  <td className={td}>
                    <span className="font-semibold">{p.name}</span>
                    <div className="text-muted text-xs">
                      by {p.by ?? "group"}
                      {p.tier && `, tier ${p.tier}`}
                      {p.tag && `, tag ${p.tag}`}
                      {p.peer && `, with ${p.peer}`}
                    </div>
                  </td>
                  <td className={td}>{p.over}</td>
                  <td className={td}>{p.words}</td>
                  <td className={td}>{p.channels.join(", ")}</td>
                  <td className={td}>{p.off ? "it is off" : <When at={p.nextAt} />}</td>
                  <td className={td}>{p.lastAt ? <When at={p.lastAt} /> : "never"}</td>
                  <td className={td}>
                    {may.administer && (
                      <RowMenu
                        of={p.name}
                        items={[
                          { text: "Send it now", act: () => send.mutate(p) },
                          { text: "Change…", act: () => dialog.open("plan", p.id) },
                          { text: "Remove", act: () => remove.mutate(p) },
                        ]}
                      />
                    )}
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      )}
    </>
  );
}

type Values = {
  name: string;
  over: Plan["over"];
  at: string;
  zone: string;
  channels: string[];
  by: string;
  tier: string;
  tag: string;
  peer: string;
  off: boolean;
};

/** PlanDialog has a report sent by calendar, or changes how. */
export function PlanDialog({ of, onClose }: { of?: Plan; onClose: () => void }) {
  const qc = useQueryClient();
  const channels = useQuery(asks.channels).data ?? [];
  const form = useForm<Values>({
    defaultValues: {
      name: of?.name ?? "",
      over: of?.over ?? "month",
      at: of?.at ?? "1st of the month at 07:00",
      zone: of ? (of.zone ?? "") : Intl.DateTimeFormat().resolvedOptions().timeZone || "UTC",
      channels: of?.channels ?? [],
      by: of?.by ?? "group",
      tier: of?.tier ?? "",
      tag: of?.tag ?? "",
      peer: of?.peer ?? "",
      off: of?.off ?? false,
    },
  });
  const act = (v: Values) => {
    const body: Schemas["NewReportPlan"] = {
      name: v.name,
      over: v.over,
      at: v.at,
      zone: v.zone || undefined,
      channels: v.channels,
      by: v.by as "group",
      tier: v.tier || undefined,
      tag: v.tag || undefined,
      peer: v.peer || undefined,
      off: v.off,
      revision: of?.revision,
    };
    return of
      ? ask(api.PUT("/report-plans/{id}", { params: { path: { id: of.id } }, body }))
      : ask(api.POST("/report-plans", { body }));
  };
  return (
    <FormDialog
      title={of ? `Change ${of.name}` : "Send a report by calendar"}
      form={form}
      act={act}
      done={() => {
        qc.invalidateQueries({ queryKey: ["report-plans"] });
        onClose();
      }}
      onClose={onClose}
      go="Save"
    >
      {(refusal) => {
        const text = (name: "name" | "at" | "zone" | "tier" | "tag" | "peer", label: string, hint?: string) => (
          <Field label={label} hint={hint} faults={refusal?.at(name)}>
            {(id, d) => (
              <input id={id} aria-describedby={d} autoComplete="off" className={inputLook} {...form.register(name)} />
            )}
          </Field>
        );
        return (
          <div className="grid gap-3 sm:grid-cols-2">
            {text("name", "Name")}
            <Field label="Of the last whole" faults={refusal?.at("over")}>
              {(id) => (
                <select id={id} className={inputLook} {...form.register("over")}>
                  <option>day</option>
                  <option>week</option>
                  <option>month</option>
                </select>
              )}
            </Field>
            {text("at", "Sent", "Such as mon at 07:00, or 1st of the month at 07:00.")}
            {text("zone", "Time zone of that")}
            <fieldset className="sm:col-span-2">
              <legend className="mb-1 font-medium">To</legend>
              {channels.length === 0 && (
                <p className="text-muted">
                  There is no channel yet; <Link to="/alerts?show=channels">add one for mail</Link> first.
                </p>
              )}
              <div className="flex flex-wrap gap-x-4 gap-y-1">
                {channels.map((c) => (
                  <label key={c.id} className="flex items-center gap-1.5">
                    <input type="checkbox" value={c.name} {...form.register("channels")} />
                    {c.name} <span className="text-muted text-xs">{c.kind}</span>
                  </label>
                ))}
              </div>
              {refusal?.at("channels").map((f) => (
                <p key={f} className="text-over-ink text-xs">
                  {f}
                </p>
              ))}
            </fieldset>
            <Field label="Summed up">
              {(id) => (
                <select id={id} className={inputLook} {...form.register("by")}>
                  <option value="group">by group</option>
                  <option value="tier">by tier</option>
                  <option value="tag">by tag</option>
                  <option value="site">by other site</option>
                </select>
              )}
            </Field>
            {text("tier", "Only of the tier", "Left out: of all.")}
            {text("tag", "Only with the tag")}
            {text("peer", "Only with the other site")}
            {of && (
              <label className="flex items-center gap-2 sm:col-span-2">
                <input type="checkbox" {...form.register("off")} /> Send it no more for now
              </label>
            )}
          </div>
        );
      }}
    </FormDialog>
  );
}
