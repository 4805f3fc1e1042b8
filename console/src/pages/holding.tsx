import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useForm, useWatch } from "react-hook-form";
import { api, ask, type Group, type Point } from "../api";
import { asks } from "../asks";
import { every, FormDialog, NameField } from "../dialog";
import { count } from "../format";
import { Field, inputLook } from "../ui";

const hour = 3600;

/** Length offers some lengths of time, and none at all. */
function Length({ id, lengths, none, ...p }: { id: string; lengths: [number, string][]; none: string }) {
  return (
    <select id={id} className={inputLook} {...p}>
      {lengths.map(([s, text]) => (
        <option key={s} value={s}>
          {text}
        </option>
      ))}
      <option value="">{none}</option>
    </select>
  );
}

/** CopyToDialog has a group be copied to another site from now on. */
export function CopyToDialog({ g, onClose }: { g: Group; onClose: () => void }) {
  const qc = useQueryClient();
  const links = useQuery(asks.links);
  const form = useForm({ defaultValues: { link: "", name: "" } });
  const v = useWatch({ control: form.control });
  return (
    <FormDialog
      title={`Copy ${g.name} to another site`}
      intro={
        <>
          From now on it is copied there and not to {g.recovery}. A first copy is made: until it is there, the group is
          protected by what is at {g.recovery} alone. Its {count(g.points, "point")} stay there, as those of a group
          that has ended.
        </>
      }
      form={form}
      act={(x) =>
        ask(
          api.PUT("/groups/{id}/destination", {
            params: { path: { id: g.id } },
            body: { link: x.link, confirm: x.name },
          }),
        )
      }
      done={() => {
        for (const k of ["groups", "group", "board"]) qc.invalidateQueries({ queryKey: [k] });
        onClose();
      }}
      onClose={onClose}
      go="Copy it there"
      danger
      ready={!!v.link && v.name === g.name}
    >
      {(refusal) => (
        <>
          <Field label="To" faults={refusal?.at("link")}>
            {(id) => (
              <select id={id} className={inputLook} {...form.register("link")}>
                <option value="">choose a site</option>
                {links.data
                  ?.filter((l) => l.peer !== g.recovery)
                  .map((l) => (
                    <option key={l.id} value={l.id}>
                      {l.peer}
                    </option>
                  ))}
              </select>
            )}
          </Field>
          <NameField of={g.name} faults={refusal?.at("confirm")} {...form.register("name")} />
        </>
      )}
    </FormDialog>
  );
}

/** PauseDialog holds the cycles of groups, for a while and for a reason. */
export function PauseDialog({ groups, onClose }: { groups: Group[]; onClose: () => void }) {
  const qc = useQueryClient();
  const form = useForm({ defaultValues: { length: String(2 * hour), reason: "" } });
  return (
    <FormDialog
      title={`Pause ${groups.length === 1 ? groups[0]?.name : count(groups.length, "group")}`}
      intro={`${groups.length > 1 ? `${groups.map((g) => g.name).join(", ")}. ` : ""}A cycle under way stops where it is, and goes on later. Exposure goes on rising.`}
      form={form}
      act={(v) =>
        every(groups, (g) =>
          ask(
            api.POST("/groups/{id}/pause", {
              params: { path: { id: g.id } },
              body: { forSeconds: v.length ? Number(v.length) : undefined, reason: v.reason || undefined },
            }),
          ),
        )
      }
      done={() => {
        for (const k of ["groups", "group", "board"]) qc.invalidateQueries({ queryKey: [k] });
        onClose();
      }}
      onClose={onClose}
      go="Pause the cycles"
    >
      {(refusal) => (
        <>
          <Field label="For" faults={refusal?.at("forSeconds")}>
            {(id) => (
              <Length
                id={id}
                none="until it is resumed"
                lengths={[
                  [hour, "1 hour"],
                  [2 * hour, "2 hours"],
                  [8 * hour, "8 hours"],
                  [24 * hour, "1 day"],
                  [7 * 24 * hour, "1 week"],
                ]}
                {...form.register("length")}
              />
            )}
          </Field>
          <Field label="Why" hint="Shown with the group, such as: array swap." faults={refusal?.at("reason")}>
            {(id) => <input id={id} className={inputLook} {...form.register("reason")} />}
          </Field>
        </>
      )}
    </FormDialog>
  );
}

/** PinDialog keeps points out of the ladder's reach, for a while and for a reason. */
export function PinDialog({ points, onClose }: { points: Point[]; onClose: () => void }) {
  const qc = useQueryClient();
  const form = useForm({ defaultValues: { length: "", reason: "" } });
  const one = points.length === 1 ? points[0] : undefined;
  return (
    <FormDialog
      title={one ? `Pin point ${one.number} of ${one.groupName}` : `Pin ${count(points.length, "point")}`}
      intro="No ladder lets a pinned point go, and nobody deletes it before it is unpinned."
      form={form}
      act={(v) =>
        every(points, (p) =>
          ask(
            api.PATCH("/points/{id}", {
              params: { path: { id: p.id } },
              body: {
                pinned: true,
                until: v.length ? new Date(Date.now() + Number(v.length) * 1000).toISOString() : undefined,
                reason: v.reason || undefined,
              },
            }),
          ),
        )
      }
      done={() => {
        qc.invalidateQueries({ queryKey: ["points"] });
        onClose();
      }}
      onClose={onClose}
      go={one ? "Pin it" : "Pin them"}
    >
      {(refusal) => (
        <>
          <Field label="For" faults={refusal?.at("until")}>
            {(id) => (
              <Length
                id={id}
                none="until it is unpinned"
                lengths={[
                  [7 * 24 * hour, "1 week"],
                  [30 * 24 * hour, "30 days"],
                  [365 * 24 * hour, "1 year"],
                ]}
                {...form.register("length")}
              />
            )}
          </Field>
          <Field label="Why" hint="Such as: before the upgrade." faults={refusal?.at("reason")}>
            {(id) => <input id={id} className={inputLook} {...form.register("reason")} />}
          </Field>
        </>
      )}
    </FormDialog>
  );
}

/** LockDialog keeps anybody from deleting points, for a while. */
export function LockDialog({ points, onClose }: { points: Point[]; onClose: () => void }) {
  const qc = useQueryClient();
  const form = useForm({ defaultValues: { length: String(30 * 24 * hour), reason: "" } });
  const one = points.length === 1 ? points[0] : undefined;
  return (
    <FormDialog
      title={one ? `Lock point ${one.number} of ${one.groupName}` : `Lock ${count(points.length, "point")}`}
      intro="Nobody deletes a locked point, whatever their role, and no lock is made shorter: what it holds takes room until then."
      form={form}
      act={(v) =>
        every(points, (p) =>
          ask(
            api.POST("/points/{id}/lock", {
              params: { path: { id: p.id } },
              body: {
                until: new Date(Date.now() + Number(v.length) * 1000).toISOString(),
                reason: v.reason || undefined,
              },
            }),
          ),
        )
      }
      done={() => {
        qc.invalidateQueries({ queryKey: ["points"] });
        onClose();
      }}
      onClose={onClose}
      go={one ? "Lock it" : "Lock them"}
    >
      {(refusal) => (
        <>
          <Field label="For" faults={refusal?.at("until")}>
            {(id) => (
              <select id={id} className={inputLook} {...form.register("length")}>
                {[1, 7, 14, 30, 90, 365].map((days) => (
                  <option key={days} value={days * 24 * hour}>
                    {count(days, "day")}
                  </option>
                ))}
              </select>
            )}
          </Field>
          <Field label="Why" hint="Such as: for the auditors." faults={refusal?.at("reason")}>
            {(id) => <input id={id} className={inputLook} {...form.register("reason")} />}
          </Field>
        </>
      )}
    </FormDialog>
  );
}
