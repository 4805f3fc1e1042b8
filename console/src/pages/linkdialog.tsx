import { useQueryClient } from "@tanstack/react-query";
import { useFieldArray, useForm } from "react-hook-form";
import { api, ask, type Schemas } from "../api";
import { FormDialog } from "../dialog";
import { Button, Field, inputLook } from "../ui";

export const compressions: [string, string][] = [
  ["s2", "S2, fast"],
  ["zstd", "Zstandard, smaller and slower"],
  ["off", "off"],
];

const mib = (n: number) => (n ? String(Math.round((n / 2 ** 20) * 100) / 100) : "");

const bytes = (text: string) => (text.trim() === "" ? 0 : Math.round(Number(text.replace(",", ".")) * 2 ** 20));

const columns = [
  ["days", "Days", "mon-fri"],
  ["from", "From", "08:00"],
  ["to", "To", "18:00"],
  ["rate", "MiB a second", "no limit"],
] as const;

/** LinkDialog changes how what this site sends over a link is compressed and limited. */
export function LinkDialog({ l, onClose }: { l: Schemas["Link"]; onClose: () => void }) {
  const qc = useQueryClient();
  const form = useForm({
    defaultValues: {
      compression: l.compression,
      most: mib(l.limitBytesPerSecond),
      groups: String(l.maxGroups),
      room: l.roomBytes ? String(Math.round((l.roomBytes / 2 ** 30) * 100) / 100) : "",
      windows: l.windows.map((w) => ({ days: w.days, from: w.from, to: w.to, rate: mib(w.bytesPerSecond) })),
    },
  });
  const windows = useFieldArray({ control: form.control, name: "windows" });
  return (
    <FormDialog
      title={`Limits and compression with ${l.peer}`}
      intro={`For what this site sends, and what it takes. It holds at once; ${l.peer} decides for its own direction.`}
      form={form}
      act={(v) =>
        ask(
          api.PATCH("/links/{id}", {
            params: { path: { id: l.id } },
            body: {
              compression: v.compression,
              limitBytesPerSecond: bytes(v.most),
              maxGroups: Number(v.groups),
              roomBytes: bytes(v.room) * 2 ** 10,
              windows: v.windows.map(({ rate, ...w }) => ({ ...w, bytesPerSecond: bytes(rate) })),
            },
          }),
        )
      }
      done={() => {
        qc.invalidateQueries({ queryKey: ["links"] });
        onClose();
      }}
      onClose={onClose}
      go="Save"
      stay="Leave it"
    >
      {(refusal) => (
        <>
          <div className="grid gap-3 sm:grid-cols-2">
            <Field
              label="Compression"
              faults={refusal?.at("compression")}
              hint="Points are kept as they are sent. What does not shrink is sent as it is."
            >
              {(i, d) => (
                <select id={i} aria-describedby={d} className={inputLook} {...form.register("compression")}>
                  {compressions.map(([value, text]) => (
                    <option key={value} value={value}>
                      {text}
                    </option>
                  ))}
                </select>
              )}
            </Field>
            <Field
              label="Limit, MiB a second"
              faults={refusal?.at("limitBytesPerSecond")}
              hint="Empty for none. Groups share it by their priority, 4 to 2 to 1."
            >
              {(i, d) => (
                <input
                  id={i}
                  aria-describedby={d}
                  inputMode="decimal"
                  pattern="[0-9]*[.,]?[0-9]*"
                  className={inputLook}
                  {...form.register("most")}
                />
              )}
            </Field>
            <Field
              label={`Most groups from ${l.peer}`}
              faults={refusal?.at("maxGroups")}
              hint="A site that was taken over brings no more than that."
            >
              {(i, d) => (
                <input
                  id={i}
                  aria-describedby={d}
                  inputMode="numeric"
                  pattern="[0-9]+"
                  className={inputLook}
                  {...form.register("groups")}
                />
              )}
            </Field>
            <Field
              label={`Room for points from ${l.peer}, GiB`}
              faults={refusal?.at("roomBytes")}
              hint="Before compressing. Empty for all that the store has."
            >
              {(i, d) => (
                <input
                  id={i}
                  aria-describedby={d}
                  inputMode="decimal"
                  pattern="[0-9]*[.,]?[0-9]*"
                  className={inputLook}
                  {...form.register("room")}
                />
              )}
            </Field>
          </div>
          <fieldset className="grid gap-1.5">
            <legend className="mb-1 font-medium">Times of the week with another limit</legend>
            {windows.fields.map((w, n) => (
              <div key={w.id} className="grid grid-cols-[minmax(0,1fr)_72px_72px_88px_auto] items-center gap-1.5">
                {columns.map(([k, text, example]) => (
                  <input
                    key={k}
                    aria-label={`${text} of time ${n + 1}`}
                    placeholder={example}
                    className={inputLook}
                    {...form.register(`windows.${n}.${k}`)}
                  />
                ))}
                <Button onClick={() => windows.remove(n)}>Remove</Button>
              </div>
            ))}
            <div className="flex items-center gap-3">
              <Button onClick={() => windows.append({ days: "mon-fri", from: "08:00", to: "18:00", rate: "5" })}>
                Add a time
              </Button>
              <span className="text-muted text-xs">
                Days, from, to, MiB a second, by this site's clock. The first that holds counts.
              </span>
            </div>
            {refusal?.at("windows").map((f) => (
              <div key={f} className="text-over-ink text-xs">
                ✕ {f}
              </div>
            ))}
          </fieldset>
        </>
      )}
    </FormDialog>
  );
}
