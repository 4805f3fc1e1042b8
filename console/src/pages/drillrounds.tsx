import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useForm } from "react-hook-form";
import { useDialog } from "../address";
import { api, ask } from "../api";
import { asks, useMay } from "../asks";
import { FormDialog } from "../dialog";
import { count, when } from "../format";
import { Button, Card, Empty, Fault, Field, Heads, inputLook, td, When } from "../ui";
import { ChoiceOptions, choices } from "./drilldialog";

/** Rounds are the drills that begin by themselves. */
export function Rounds() {
  const may = useMay();
  const qc = useQueryClient();
  const dialog = useDialog<"round">();
  const q = useQuery({
    queryKey: ["drills", "rounds"],
    queryFn: () => ask(api.GET("/drill-rounds")),
    refetchInterval: 10_000,
    enabled: may.operate,
  });
  const remove = useMutation({
    mutationFn: (id: string) => ask(api.DELETE("/drill-rounds/{id}", { params: { path: { id } } })),
    onSuccess: () => qc.invalidateQueries({ queryKey: ["drills"] }),
  });
  if (!may.operate) return null;
  return (
    <Card
      title="Begun by themselves"
      aside={may.administer && <Button onClick={() => dialog.open("round")}>Have drills begin by themselves…</Button>}
    >
      <Fault of={q.error ?? remove.error} />
      {q.data?.length ? (
        <div className="overflow-x-auto">
          <table className="w-full" aria-label="Drills that begin by themselves">
            <Heads of={["Round", "Begins", "Of", "Next", "Last", ""]} />
            <tbody>
              {q.data.map((x) => (
                <tr key={x.id} className="border-line border-t">
                  <td className={td}>
                    <span className="font-semibold">{x.name}</span>
                    <div className="text-muted text-xs">from {choices[x.choose ?? "newest"]}</div>
                  </td>
                  <td className={td}>{x.words}</td>
                  <td className={td}>
                    {x.groups.slice(0, 4).join(", ") || "no group now"}
                    {x.groups.length > 4 && ` and ${x.groups.length - 4} more`}
                    {x.refused.map((f) => (
                      <div key={f.group + f.at} className="text-over-ink text-xs">
                        ▲ {f.group} was not tried {when(f.at)}: {f.why}
                      </div>
                    ))}
                  </td>
                  <td className={td}>
                    <When at={x.nextAt} />
                  </td>
                  <td className={td}>
                    {x.begunFor ? <When at={x.begunFor} /> : "—"}
                    {x.pending > 0 && (
                      <div className="text-muted text-xs">{count(x.pending, "group")} still to try</div>
                    )}
                  </td>
                  <td className={`${td} text-right`}>
                    {may.administer && (
                      <Button small kind="danger" disabled={remove.isPending} onClick={() => remove.mutate(x.id)}>
                        Remove
                      </Button>
                    )}
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      ) : (
        q.data && <Empty>No drill begins by itself. Nights and Sundays are for that.</Empty>
      )}
      {dialog.name === "round" && <RoundDialog onClose={dialog.close} />}
    </Card>
  );
}

function RoundDialog({ onClose }: { onClose: () => void }) {
  const qc = useQueryClient();
  const groups = useQuery(asks.groups).data?.filter((g) => g.direction === "in") ?? [];
  const some = (of: (string | undefined)[]) => [...new Set(of.flatMap((x) => x ?? []))].sort();
  const form = useForm({
    defaultValues: {
      name: "",
      at: "sun at 03:00",
      zone: Intl.DateTimeFormat().resolvedOptions().timeZone || "UTC",
      choose: "newest",
      of: "",
      hours: "21600",
    },
  });
  return (
    <FormDialog
      title="Have drills begin by themselves"
      intro="One after the other, each ended as soon as all is checked, with its evidence."
      form={form}
      act={(v) => {
        const [kind, ...name] = v.of.split(":");
        return ask(
          api.POST("/drill-rounds", {
            body: {
              name: v.name,
              at: v.at,
              zone: v.zone.trim() || undefined,
              choose: v.choose as "newest",
              hoursSeconds: Number(v.hours),
              ...(kind ? { [kind]: name.join(":") } : {}),
            },
          }),
        );
      }}
      done={() => {
        qc.invalidateQueries({ queryKey: ["drills"] });
        onClose();
      }}
      onClose={onClose}
      go="Have them begin"
    >
      {(refusal) => (
        <div className="grid gap-3 sm:grid-cols-2">
          <Field label="Name" faults={refusal?.at("name")}>
            {(id) => <input id={id} className={inputLook} autoComplete="off" {...form.register("name")} />}
          </Field>
          <Field label="Of" faults={refusal?.at("group")}>
            {(id) => (
              <select id={id} className={inputLook} {...form.register("of")}>
                <option value="">every group that comes in</option>
                {some(groups.map((g) => g.tier)).map((t) => (
                  <option key={t} value={`tier:${t}`}>
                    tier {t}
                  </option>
                ))}
                {some(groups.flatMap((g) => g.tags)).map((t) => (
                  <option key={t} value={`tag:${t}`}>
                    tag {t}
                  </option>
                ))}
                {groups.map((g) => (
                  <option key={g.id} value={`group:${g.id}`}>
                    {g.name}
                  </option>
                ))}
              </select>
            )}
          </Field>
          <Field label="Begins" faults={refusal?.at("at")} hint="Such as sun at 03:00, or 1st of the month at 02:00.">
            {(id) => <input id={id} className={inputLook} autoComplete="off" {...form.register("at")} />}
          </Field>
          <Field label="Time zone" faults={refusal?.at("zone")}>
            {(id) => <input id={id} className={inputLook} autoComplete="off" {...form.register("zone")} />}
          </Field>
          <Field label="From" faults={refusal?.at("choose")}>
            {(id) => (
              <select id={id} className={inputLook} {...form.register("choose")}>
                <ChoiceOptions />
              </select>
            )}
          </Field>
          <Field label="Drills begin for" faults={refusal?.at("hoursSeconds")}>
            {(id) => (
              <select id={id} className={inputLook} {...form.register("hours")}>
                <option value="3600">1 hour</option>
                <option value="7200">2 hours</option>
                <option value="21600">6 hours</option>
                <option value="43200">12 hours</option>
              </select>
            )}
          </Field>
        </div>
      )}
    </FormDialog>
  );
}
