import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useForm } from "react-hook-form";
import { api, ask, type Group, type Point, Problem } from "../api";
import { Button, Fault, Field, inputLook, Modal } from "../ui";

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

/** PauseDialog holds a group's cycles, for a while and for a reason. */
export function PauseDialog({ g, onClose }: { g: Group; onClose: () => void }) {
  const qc = useQueryClient();
  const form = useForm({ defaultValues: { length: String(2 * hour), reason: "" } });
  const m = useMutation({
    mutationFn: (v: { length: string; reason: string }) =>
      ask(
        api.POST("/groups/{id}/pause", {
          params: { path: { id: g.id } },
          body: { forSeconds: v.length ? Number(v.length) : undefined, reason: v.reason || undefined },
        }),
      ),
    onSuccess: (x) => {
      qc.setQueryData(["group", g.id], x);
      onClose();
    },
  });
  const p = m.error instanceof Problem ? m.error : undefined;
  return (
    <Modal
      open
      onOpenChange={(o) => !o && onClose()}
      title={`Pause ${g.name}`}
      intro="A cycle under way stops where it is, and goes on later. Exposure goes on rising."
    >
      <form className="grid gap-3" onSubmit={form.handleSubmit((v) => m.mutate(v))}>
        <Field label="For" faults={p?.at("forSeconds")}>
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
        <Field label="Why" hint="Shown with the group, such as: array swap." faults={p?.at("reason")}>
          {(id) => <input id={id} className={inputLook} {...form.register("reason")} />}
        </Field>
        <Fault of={p && !p.errors.length ? p : undefined} />
        <div className="flex justify-end gap-2">
          <Button onClick={onClose}>Not now</Button>
          <Button kind="main" type="submit" disabled={m.isPending}>
            Pause the cycles
          </Button>
        </div>
      </form>
    </Modal>
  );
}

/** PinDialog keeps a point out of the ladder's reach, for a while and for a reason. */
export function PinDialog({ p: point, onClose }: { p: Point; onClose: () => void }) {
  const qc = useQueryClient();
  const form = useForm({ defaultValues: { length: "", reason: "" } });
  const m = useMutation({
    mutationFn: (v: { length: string; reason: string }) =>
      ask(
        api.PATCH("/points/{id}", {
          params: { path: { id: point.id } },
          body: {
            pinned: true,
            until: v.length ? new Date(Date.now() + Number(v.length) * 1000).toISOString() : undefined,
            reason: v.reason || undefined,
          },
        }),
      ),
    onSuccess: () => {
      qc.invalidateQueries({ queryKey: ["points"] });
      onClose();
    },
  });
  const p = m.error instanceof Problem ? m.error : undefined;
  return (
    <Modal
      open
      onOpenChange={(o) => !o && onClose()}
      title={`Pin point ${point.number} of ${point.groupName}`}
      intro="No ladder lets a pinned point go, and nobody deletes it before it is unpinned."
    >
      <form className="grid gap-3" onSubmit={form.handleSubmit((v) => m.mutate(v))}>
        <Field label="For" faults={p?.at("until")}>
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
        <Field label="Why" hint="Such as: before the upgrade." faults={p?.at("reason")}>
          {(id) => <input id={id} className={inputLook} {...form.register("reason")} />}
        </Field>
        <Fault of={p && !p.errors.length ? p : undefined} />
        <div className="flex justify-end gap-2">
          <Button onClick={onClose}>Not now</Button>
          <Button kind="main" type="submit" disabled={m.isPending}>
            Pin it
          </Button>
        </div>
      </form>
    </Modal>
  );
}
