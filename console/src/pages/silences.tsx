import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useForm } from "react-hook-form";
import { api, ask, type Schemas } from "../api";
import { asks, useMay } from "../asks";
import { FormDialog } from "../dialog";
import { span } from "../format";
import { Card, Empty, Fault, Field, Heads, inputLook, RowMenu, State, td, When } from "../ui";

type Silence = Schemas["Silence"];

/** ofText says of which groups something is. */
export function ofText(x: { group?: string; tag?: string; tier?: string }): string {
  if (x.group) return `group ${x.group}`;
  if (x.tag) return `tag ${x.tag}`;
  if (x.tier) return `tier ${x.tier}`;
  return "all";
}

/** Silences lists when nobody is told. */
export function Silences() {
  const may = useMay();
  const qc = useQueryClient();
  const q = useQuery(asks.silences);
  const end = useMutation({
    mutationFn: (id: string) => ask(api.DELETE("/silences/{id}", { params: { path: { id } } })),
    onSuccess: () => qc.invalidateQueries({ queryKey: ["alerts"] }),
  });
  return (
    <Card>
      <Fault of={q.error ?? end.error} />
      {q.data?.length === 0 ? (
        <Empty>
          No silence. One keeps people from being told of some alerts for a while, or again and again as in a
          maintenance window; alerts are raised and kept all the same.
        </Empty>
      ) : (
        <div className="overflow-x-auto">
          <table className="w-full">
            <Heads of={["Now", "Of", "Kind", "When", "Why", "By", ""]} />
            <tbody>
              {q.data?.map((s) => (
                <tr key={s.id} className="border-line border-t">
                  <td className={td}>
                    <State of={s.holds ? "silence holds" : "silence waits"} />
                  </td>
                  <td className={td}>{ofText(s)}</td>
                  <td className={td}>{s.kind ?? "every"}</td>
                  <td className={td}>
                    <WhenHeld s={s} />
                  </td>
                  <td className={td}>{s.reason}</td>
                  <td className={td}>{s.madeBy}</td>
                  <td className={td}>
                    {may.operate && <RowMenu of={s.reason} items={[{ text: "End it", act: () => end.mutate(s.id) }]} />}
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      )}
    </Card>
  );
}

function WhenHeld({ s }: { s: Silence }) {
  if (s.calendar) {
    return (
      <>
        {s.calendar}, for {span(s.lastsSeconds)} {s.zone && `(${s.zone})`}
      </>
    );
  }
  return (
    <>
      until <When at={s.until} />
    </>
  );
}

const lengths = [
  ["3600", "1 hour"],
  ["7200", "2 hours"],
  ["14400", "4 hours"],
  ["28800", "8 hours"],
  ["86400", "a day"],
  ["604800", "a week"],
];

/** SilenceDialog keeps people from being told. */
export function SilenceDialog({ group, onClose }: { group?: string; onClose: () => void }) {
  const qc = useQueryClient();
  const rules = useQuery(asks.alertRules);
  const form = useForm({
    defaultValues: {
      of: group ? "group" : "",
      name: group ?? "",
      kind: "",
      lasts: "7200",
      calendar: "",
      zone: Intl.DateTimeFormat().resolvedOptions().timeZone || "UTC",
      reason: "",
    },
  });
  const of = form.watch("of");
  const again = form.watch("calendar").trim() !== "";
  const kinds = [...new Set(rules.data?.rules.map((r) => r.kind) ?? [])];
  return (
    <FormDialog
      title="Silence"
      intro="Nobody is told. Alerts are raised and kept all the same, and what is open when it ends is told then."
      form={form}
      act={(v) =>
        ask(
          api.POST("/silences", {
            body: {
              ...(v.of ? { [v.of]: v.name.trim() } : {}),
              kind: v.kind || undefined,
              lastsSeconds: Number(v.lasts),
              calendar: v.calendar.trim() || undefined,
              zone: again ? v.zone.trim() || undefined : undefined,
              reason: v.reason,
            },
          }),
        )
      }
      done={() => {
        qc.invalidateQueries({ queryKey: ["alerts"] });
        onClose();
      }}
      onClose={onClose}
      go="Silence"
    >
      {(refusal) => (
        <div className="grid gap-3 sm:grid-cols-2">
          <Field label="Of" faults={refusal?.at("for")}>
            {(id) => (
              <select id={id} className={inputLook} {...form.register("of")}>
                <option value="">everything</option>
                <option value="group">a group</option>
                <option value="tag">groups with a tag</option>
                <option value="tier">groups of a tier</option>
              </select>
            )}
          </Field>
          {of ? (
            <Field label={of === "group" ? "Group" : of === "tag" ? "Tag" : "Tier"} faults={refusal?.at(of)}>
              {(id) => <input id={id} autoComplete="off" className={inputLook} {...form.register("name")} />}
            </Field>
          ) : (
            <span />
          )}
          <Field label="Kind of alert" faults={refusal?.at("kind")}>
            {(id) => (
              <select id={id} className={inputLook} {...form.register("kind")}>
                <option value="">every</option>
                {kinds.map((k) => (
                  <option key={k}>{k}</option>
                ))}
              </select>
            )}
          </Field>
          <Field label="How long" faults={refusal?.at("lastsSeconds")}>
            {(id) => (
              <select id={id} className={inputLook} {...form.register("lasts")}>
                {lengths.map(([n, text]) => (
                  <option key={n} value={n}>
                    {text}
                  </option>
                ))}
              </select>
            )}
          </Field>
          <Field
            label="Again and again"
            hint="Such as: sun at 02:00. Left out: once, from now on."
            faults={refusal?.at("calendar")}
          >
            {(id, d) => (
              <input
                id={id}
                aria-describedby={d}
                autoComplete="off"
                className={inputLook}
                {...form.register("calendar")}
              />
            )}
          </Field>
          <Field label="Time zone of that" faults={refusal?.at("zone")}>
            {(id) => (
              <input id={id} autoComplete="off" disabled={!again} className={inputLook} {...form.register("zone")} />
            )}
          </Field>
          <div className="sm:col-span-2">
            <Field label="Why" hint="For whoever looks for an alert that did not come." faults={refusal?.at("reason")}>
              {(id, d) => (
                <input
                  id={id}
                  aria-describedby={d}
                  autoComplete="off"
                  className={inputLook}
                  {...form.register("reason")}
                />
              )}
            </Field>
          </div>
        </div>
      )}
    </FormDialog>
  );
}
