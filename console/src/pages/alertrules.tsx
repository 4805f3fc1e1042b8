import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useForm } from "react-hook-form";
import { useDialog } from "../address";
import { api, ask, type Schemas } from "../api";
import { asks, useMay } from "../asks";
import { FormDialog } from "../dialog";
import { span } from "../format";
import { Card, Fault, Field, Heads, inputLook, RowMenu, State, td } from "../ui";
import { ofText } from "./silences";

type Rule = Schemas["AlertRule"];
type All = Schemas["AlertRules"];

/** ofGroups tells whether alerts of a kind are about groups. */
const ofGroups = (r: Rule) =>
  !["link down", "platform away", "store full", "store filling", "clock", "certificate ends", "not delivered"].includes(
    r.kind,
  );

const sameRule = (a: Rule, b: Rule) => a.kind === b.kind && ofText(a) === ofText(b);

/** put replaces one rule, or makes it as usual again if there is no next one. */
function put(all: All, was: Rule | undefined, next: Rule | undefined) {
  const rest = all.rules.filter((r) => !was || !sameRule(r, was));
  return ask(
    api.PUT("/alert-rules", {
      body: { revision: all.revision, rules: next ? [...rest, { ...next, usual: false }] : rest },
    }),
  );
}

/** Rules shows when alerts are raised and who is told. */
export function Rules() {
  const may = useMay();
  const qc = useQueryClient();
  const q = useQuery(asks.alertRules);
  const dialog = useDialog<"rule">();
  const again = () => qc.invalidateQueries({ queryKey: ["alerts"] });
  const forget = useMutation({ mutationFn: (r: Rule) => put(q.data as All, r, undefined), onSuccess: again });
  const at = dialog.name === "rule" ? Number(dialog.ids[0]) : -1;
  const chosen = q.data?.rules[at];
  return (
    <Card title="Rules" aside="that for a group counts before that for a tag, and that before that for a tier">
      <Fault of={q.error ?? forget.error} />
      {q.data && chosen && (
        <RuleDialog all={q.data} of={chosen} apart={dialog.ids[1] === "apart"} onClose={dialog.close} done={again} />
      )}
      <div className="overflow-x-auto">
        <table className="w-full">
          <Heads of={["Kind", "Of", "Level", "After", "Within", "Told", "Quiet", "Escalated", ""]} />
          <tbody>
            {q.data?.rules.map((r, i) => (
              <tr key={r.kind + ofText(r)} className="border-line border-t">
                <td className={td}>
                  {r.kind} {r.usual && <span className="text-muted text-xs">as usual</span>}
                </td>
                <td className={td}>{ofText(r)}</td>
                <td className={td}>{r.off ? "off" : <State of={`alert ${r.level}`} />}</td>
                <td className={td}>{r.afterSeconds ? span(r.afterSeconds) : "at once"}</td>
                <td className={td}>{r.withinSeconds ? span(r.withinSeconds) : "—"}</td>
                <td className={td}>{r.channels?.join(", ") ?? "all channels"}</td>
                <td className={td}>
                  {r.quiet ?? "—"} {r.zone}
                </td>
                <td className={td}>
                  {r.escalateAfterSeconds ? `after ${span(r.escalateAfterSeconds)} to ${r.escalateTo}` : "—"}
                </td>
                <td className={td}>
                  {may.administer && (
                    <RowMenu
                      of={`${r.kind}, ${ofText(r)}`}
                      items={[
                        { text: "Change…", act: () => dialog.open("rule", String(i)) },
                        ...(!ofGroups(r)
                          ? []
                          : [
                              {
                                text: "Another one for some groups…",
                                act: () => dialog.open("rule", String(i), "apart"),
                              },
                            ]),
                        {
                          text: "As usual again",
                          act: () => forget.mutate(r),
                          why: r.usual ? "It is as usual." : undefined,
                        },
                      ]}
                    />
                  )}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      </div>
    </Card>
  );
}

type Values = {
  by: string;
  name: string;
  off: string;
  level: string;
  after: string;
  within: string;
  quiet: string;
  zone: string;
  channels: string[];
  escalateAfter: string;
  escalateTo: string;
};

const minutes = (s?: number) => (s ? String(s / 60) : "");

function RuleDialog(p: { all: All; of: Rule; apart: boolean; onClose: () => void; done: () => void }) {
  const { of, apart } = p;
  const channels = useQuery(asks.channels);
  const days = of.kind !== "clock";
  const unit = days ? 86400 : 1;
  const form = useForm<Values>({
    defaultValues: {
      by: "tag",
      name: "",
      off: of.off ? "off" : "on",
      level: of.level ?? "warning",
      after: minutes(of.afterSeconds),
      within: of.withinSeconds ? String(of.withinSeconds / unit) : "",
      quiet: of.quiet ?? "",
      zone: of.zone ?? (Intl.DateTimeFormat().resolvedOptions().timeZone || "UTC"),
      channels: of.channels ?? [],
      escalateAfter: minutes(of.escalateAfterSeconds),
      escalateTo: of.escalateTo ?? "",
    },
  });
  const act = (v: Values) => {
    const quiet = v.quiet.trim();
    const next: Rule = {
      kind: of.kind,
      ...(apart ? { [v.by]: v.name.trim() } : { group: of.group, tag: of.tag, tier: of.tier }),
      off: v.off === "off" || undefined,
      level: v.level,
      afterSeconds: Math.round(Number(v.after || 0) * 60),
      withinSeconds: of.withinSeconds ? Math.round(Number(v.within) * unit) : undefined,
      quiet: quiet || undefined,
      zone: quiet ? v.zone : undefined,
      channels: v.channels.length ? v.channels : undefined,
      escalateAfterSeconds: v.escalateAfter ? Math.round(Number(v.escalateAfter) * 60) : undefined,
      escalateTo: v.escalateAfter ? v.escalateTo || undefined : undefined,
    };
    return put(p.all, apart ? undefined : of, next);
  };
  return (
    <FormDialog
      title={apart ? `${of.kind}, for some groups` : `${of.kind}, ${ofText(of)}`}
      form={form}
      act={act}
      done={() => {
        p.done();
        p.onClose();
      }}
      onClose={p.onClose}
      go="Save"
    >
      {(refusal) => {
        const at = (field: string) =>
          refusal?.errors.filter((e) => e.field.endsWith(`.${field}`)).map((e) => e.message);
        const text = (
          name: "after" | "within" | "quiet" | "zone" | "escalateAfter" | "name",
          label: string,
          field: string,
          hint?: string,
        ) => (
          <Field label={label} hint={hint} faults={at(field)}>
            {(id, d) => (
              <input id={id} aria-describedby={d} autoComplete="off" className={inputLook} {...form.register(name)} />
            )}
          </Field>
        );
        return (
          <div className="grid gap-3 sm:grid-cols-2">
            {apart && (
              <>
                <Field label="Of groups" faults={at("for")}>
                  {(id) => (
                    <select id={id} className={inputLook} {...form.register("by")}>
                      <option value="tag">with a tag</option>
                      <option value="tier">of a tier</option>
                      <option value="group">one group</option>
                    </select>
                  )}
                </Field>
                {text("name", "Which", "group")}
              </>
            )}
            <Field label="Raised" faults={at("kind")}>
              {(id) => (
                <select id={id} className={inputLook} {...form.register("off")}>
                  <option value="on">yes</option>
                  <option value="off">never</option>
                </select>
              )}
            </Field>
            <Field label="Level" faults={at("level")}>
              {(id) => (
                <select id={id} className={inputLook} {...form.register("level")}>
                  <option>urgent</option>
                  <option>warning</option>
                </select>
              )}
            </Field>
            {text("after", "After, in minutes", "afterSeconds", "How long it has to be so before anybody is told.")}
            {of.withinSeconds ? (
              text("within", days ? "Within, in days" : "From a difference on, in seconds", "withinSeconds")
            ) : (
              <span />
            )}
            {text("quiet", "Quiet", "quiet", "When nobody is told, such as: daily 22:00-06:00.")}
            {text("zone", "Time zone of that", "zone")}
            <Field label="Told" hint="All channels if none is chosen." faults={at("channels")}>
              {(id) => (
                <select
                  id={id}
                  multiple
                  size={Math.min(4, Math.max(2, channels.data?.length ?? 2))}
                  className={inputLook}
                  {...form.register("channels")}
                >
                  {channels.data?.map((c) => (
                    <option key={c.id}>{c.name}</option>
                  ))}
                </select>
              )}
            </Field>
            <div className="grid gap-3">
              {text(
                "escalateAfter",
                "Escalated after, in minutes",
                "escalateAfterSeconds",
                "If nobody sees to it by then; never if left out.",
              )}
              <Field label="To" faults={at("escalateTo")}>
                {(id) => (
                  <select id={id} className={inputLook} {...form.register("escalateTo")}>
                    <option value="">nobody</option>
                    {channels.data?.map((c) => (
                      <option key={c.id}>{c.name}</option>
                    ))}
                  </select>
                )}
              </Field>
            </div>
          </div>
        );
      }}
    </FormDialog>
  );
}
