import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useForm } from "react-hook-form";
import { api, ask, type Point } from "../api";
import { asks } from "../asks";
import { ConfirmDialog, every, FormDialog } from "../dialog";
import { count, size, when } from "../format";
import { Field, inputLook } from "../ui";

const modes: Record<string, string> = {
  "read-only": "Clients can only read.",
  "throw-away": "Clients can write; what they write is kept until you stop serving, or this site restarts.",
  lasting: "Clients can write; what they write is kept until you stop serving, over restarts too.",
};

/** ServeDialog offers a point's disks over NBD. */
export function ServeDialog({ p, onClose }: { p: Point; onClose: () => void }) {
  const qc = useQueryClient();
  const form = useForm({ defaultValues: { mode: "read-only" } });
  return (
    <FormDialog
      title={`Serve point ${p.number} of ${p.groupName}`}
      intro="Its disks are offered over NBD, under addresses that hold a secret. The point itself never changes: what clients write is kept beside it."
      form={form}
      act={(v) => ask(api.POST("/served", { body: { point: p.id, mode: v.mode } }))}
      done={() => {
        qc.invalidateQueries({ queryKey: ["points"] });
        qc.invalidateQueries({ queryKey: ["served"] });
        onClose();
      }}
      onClose={onClose}
      go="Serve"
      stay="Leave it"
    >
      {() => (
        <fieldset className="grid gap-2">
          <legend className="mb-1 font-medium">May clients write?</legend>
          {Object.entries(modes).map(([name, text]) => (
            <label key={name} className="flex items-start gap-2">
              <input type="radio" value={name} className="mt-1" {...form.register("mode")} />
              <span>
                {name}
                <span className="block text-muted text-xs">{text}</span>
              </span>
            </label>
          ))}
        </fieldset>
      )}
    </FormDialog>
  );
}

/** ExportDialog writes a point's disks as files on the site's host. */
export function ExportDialog({ p, onClose }: { p: Point; onClose: () => void }) {
  const qc = useQueryClient();
  const name = `${p.groupName.toLowerCase().replace(/\W+/g, "-")}-${p.number}`;
  const store = useQuery(asks.store);
  const below = store.data?.exportDirs ?? [];
  const form = useForm({
    values: { directory: below[0] ? `${below[0]}/${name}` : "", format: "raw" },
    resetOptions: { keepDirtyValues: true },
  });
  const disks = p.machines.flatMap((x) => x.disks);
  return (
    <FormDialog
      title={`Export ${p.groupName} ${p.number}`}
      intro={`${count(disks.length, "disk")} of ${size(disks.reduce((s, d) => s + d.sizeBytes, 0))}, without zero areas: ${size(p.usedBytes)} on disk. Every block is checked. Nothing is overwritten.`}
      form={form}
      act={(body) => ask(api.POST("/points/{id}/export", { params: { path: { id: p.id } }, body }))}
      done={() => {
        qc.invalidateQueries({ queryKey: ["operations"] });
        onClose();
      }}
      onClose={onClose}
      go="Export"
    >
      {(refusal) => (
        <>
          <Field
            label="Folder on this site's host"
            hint={
              below.length
                ? `Below ${below.join(" or ")}.`
                : "No folder is set aside for exports: start this site with --export-dir."
            }
            faults={refusal?.at("directory")}
          >
            {(id, d) => <input id={id} aria-describedby={d} className={inputLook} {...form.register("directory")} />}
          </Field>
          <Field label="Format" faults={refusal?.at("format")}>
            {(id) => (
              <select id={id} className={inputLook} {...form.register("format")}>
                <option value="raw">raw</option>
                <option value="qcow2">qcow2</option>
              </select>
            )}
          </Field>
        </>
      )}
    </FormDialog>
  );
}

/** DeletePoints deletes points for good. */
export function DeletePoints({ points, onClose }: { points: Point[]; onClose: () => void }) {
  const qc = useQueryClient();
  const one = points.length === 1 ? points[0] : undefined;
  const groups = new Set(points.map((p) => p.groupName));
  const times = points.map((p) => p.captureAt).sort();
  const back = points.reduce((n, p) => n + (p.aloneBytes ?? 0), 0);
  const free = back > 0 ? ` In the end ${size(back)}${one ? " are" : " or more are"} free again.` : "";
  return (
    <ConfirmDialog
      title={one ? `Delete point ${one.number} of ${one.groupName}` : `Delete ${count(points.length, "point")}`}
      intro={
        one
          ? `The state of ${when(one.captureAt)} cannot be brought back afterwards. No other point is touched.${free}`
          : `Of ${[...groups].join(", ")}, captured from ${when(times[0])} to ${when(times.at(-1))}. These states cannot be brought back afterwards. No other point is touched.${free}`
      }
      ask={groups.size === 1 ? "the group's name" : "how many"}
      name={groups.size === 1 ? (points[0]?.groupName ?? "") : count(points.length, "point")}
      act={() => every(points, (p) => ask(api.DELETE("/points/{id}", { params: { path: { id: p.id } } })))}
      done={() => {
        qc.invalidateQueries({ queryKey: ["points"] });
        onClose();
      }}
      onClose={onClose}
      go={one ? "Delete the point" : "Delete the points"}
      stay="Leave it as it is"
    />
  );
}
