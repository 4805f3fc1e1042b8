import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useForm, useWatch } from "react-hook-form";
import { Link, useNavigate } from "react-router";
import { api, ask, type Point } from "../api";
import { asks } from "../asks";
import { FormDialog } from "../dialog";
import { count, size } from "../format";
import { Button, Fault, Field, inputLook, Modal, When } from "../ui";
import { Unusual } from "./unusual";

type Values = {
  machines: string[];
  platform: string;
  datastore: string;
  how: string;
  /** Of the kinds of arrival that the group's berth has; empty is as given here. */
  berth: "" | "drill" | "live";
  prefix: string;
  /** By the place of the network at home in the list of those: names may hold anything. */
  networks: string[];
  homeNetwork: boolean;
  notWhole: boolean;
};

/** LandDialog starts machines from a point. */
export function LandDialog({ p, onClose }: { p: Point; onClose: () => void }) {
  const go = useNavigate();
  const qc = useQueryClient();
  const platforms = useQuery(asks.platforms);
  const kind = p.machines[0]?.kind;
  const able = platforms.data?.filter((x) => x.lands && (!kind || x.kind === kind)) ?? [];
  const form = useForm<Values>({
    defaultValues: {
      machines: p.machines.map((m) => m.id),
      platform: "",
      datastore: "",
      how: "at-once",
      berth: "",
      prefix: "",
      networks: [],
      homeNetwork: false,
      notWhole: false,
    },
  });
  const v = useWatch({ control: form.control }) as Values;
  const on = v.platform || able[0]?.id || "";
  const inv = useQuery({
    queryKey: ["platforms", on, "inventory"],
    queryFn: () => ask(api.GET("/platforms/{id}/inventory", { params: { path: { id: on } } })),
    enabled: !!on,
  });
  const stores = inv.data?.datastores ?? [];
  const datastore = stores.find((d) => d.id === v.datastore)?.id ?? stores[0]?.id;
  const homes = [...new Set(p.machines.flatMap((m) => m.nics.map((n) => n.network)))];
  const becomes = (h: string) => v.networks[homes.indexOf(h)] ?? "";
  const used = new Set(
    p.machines.filter((m) => v.machines.includes(m.id)).flatMap((m) => m.nics.map((n) => n.network)),
  );
  const shown = homes.filter((h) => used.has(h));
  const fields = ["platform", "datastore", "networks", "prefix", "machines", "notWhole", "berth"];
  const onHome = !v.berth && shown.some((h) => becomes(h) === h);
  if (platforms.data && !able.length)
    return (
      <Modal
        open
        onOpenChange={(o) => !o && onClose()}
        title="Start machines here"
        intro={`This site has no platform on which machines can be started${kind ? ` that come from one of the kind ${kind}` : ""}. Add one on the page Platforms.`}
      >
        <div className="flex justify-end">
          <Button onClick={onClose}>Close</Button>
        </div>
      </Modal>
    );
  return (
    <FormDialog
      title={`Start machines from ${p.groupName} ${p.number}`}
      intro={
        <>
          As they were <When at={p.captureAt} />. The machines at home are not touched, and the point stays.
        </>
      }
      form={form}
      act={(x) =>
        ask(
          api.POST("/landings", {
            body: {
              point: p.id,
              machines: x.machines,
              ...(x.berth
                ? { berth: x.berth }
                : {
                    platform: on,
                    datastore,
                    networks: Object.fromEntries(shown.filter((h) => becomes(h)).map((h) => [h, becomes(h)])),
                  }),
              how: x.how,
              prefix: x.prefix,
              homeNetwork: x.homeNetwork,
              notWhole: x.notWhole,
            },
          }),
        )
      }
      done={() => {
        qc.invalidateQueries({ queryKey: ["landings"] });
        go("/landings");
      }}
      onClose={onClose}
      go={`Start ${count(v.machines.length, "machine")}`}
      ready={v.machines.length > 0 && (!onHome || v.homeNetwork)}
    >
      {(refusal) => (
        <>
          <fieldset className="grid gap-1">
            <legend className="mb-1 font-medium">Machines</legend>
            {p.machines.map((x) => (
              <label key={x.id} className="flex items-baseline gap-2">
                <input type="checkbox" value={x.id} {...form.register("machines")} />
                {v.prefix}
                {x.name}
                <span className="text-muted text-xs">
                  {count(x.disks.length, "disk")} · {size(x.disks.reduce((s, d) => s + d.sizeBytes, 0))}
                  {x.leftOut && ` · made empty: ${x.leftOut.map((d) => d.label).join(", ")}`}
                </span>
              </label>
            ))}
          </fieldset>
          <Unusual p={p} />
          {p.lostBytes > 0 && (
            <div className="grid gap-1">
              <label className="flex items-baseline gap-2 rounded bg-over-bg px-2.5 py-1.5 text-over-ink text-xs">
                <input type="checkbox" {...form.register("notWhole")} />
                <span>
                  ✕ {size(p.lostBytes)} of this point cannot be read. I know that another point may be better: start
                  them all the same. Reading what is lost fails there.
                </span>
              </label>
              {refusal?.at("notWhole").map((t) => (
                <div key={t} className="text-over-ink text-xs">
                  ✕ {t}
                </div>
              ))}
            </div>
          )}
          <fieldset className="grid gap-1">
            <legend className="mb-1 font-medium">Where, and with which networks and addresses</legend>
            {(
              [
                ["", "As I say here", ""],
                ["drill", "As the berth says, for a drill", "its drill networks, names and sizes"],
                ["live", "As the berth says, live", "the networks and addresses that people use"],
              ] as const
            ).map(([value, text, more]) => (
              <label key={value} className="flex items-baseline gap-2">
                <input type="radio" value={value} {...form.register("berth")} />
                <span>
                  {text} {more && <span className="text-muted text-xs">{more}</span>}
                </span>
              </label>
            ))}
            {v.berth && <ByBerth group={p.group} kind={v.berth} machines={v.machines} />}
            {refusal?.at("berth").map((t) => (
              <div key={t} className="text-over-ink text-xs">
                ✕ {t}
              </div>
            ))}
            {v.berth &&
              [
                ...(refusal?.at("platform") ?? []),
                ...(refusal?.at("datastore") ?? []),
                ...(refusal?.at("networks") ?? []),
              ].map((t) => (
                <div key={t} className="text-over-ink text-xs">
                  ✕ {t}
                </div>
              ))}
            {v.berth && refusal?.at("networks").length ? (
              <label className="flex items-baseline gap-2 rounded bg-tight-bg px-2.5 py-1.5 text-tight-ink text-xs">
                <input type="checkbox" {...form.register("homeNetwork")} />
                <span>◆ I know that home does not run on that network, or that it is another of the same name.</span>
              </label>
            ) : null}
          </fieldset>
          {!v.berth && (
            <div className="grid gap-3 sm:grid-cols-2">
              <Field label="Platform" faults={refusal?.at("platform")}>
                {(id, d) => (
                  <select
                    id={id}
                    aria-describedby={d}
                    className={inputLook}
                    value={on}
                    onChange={(e) => form.setValue("platform", e.target.value)}
                  >
                    {able.map((x) => (
                      <option key={x.id} value={x.id}>
                        {x.name}
                        {x.reachable ? "" : " (does not answer now)"}
                      </option>
                    ))}
                  </select>
                )}
              </Field>
              <Field label="Datastore" faults={refusal?.at("datastore")}>
                {(id, d) => (
                  <select
                    id={id}
                    aria-describedby={d}
                    className={inputLook}
                    value={datastore}
                    onChange={(e) => form.setValue("datastore", e.target.value)}
                  >
                    {inv.data?.datastores.map((x) => (
                      <option key={x.id} value={x.id}>
                        {x.name} ({size(x.freeBytes)} free)
                      </option>
                    ))}
                  </select>
                )}
              </Field>
            </div>
          )}
          <fieldset className="grid gap-1">
            <legend className="mb-1 font-medium">When they start</legend>
            <label className="flex items-baseline gap-2">
              <input type="radio" value="at-once" {...form.register("how")} />
              <span>
                At once, off the point <span className="text-muted text-xs">and made local while they run</span>
              </span>
            </label>
            <label className="flex items-baseline gap-2">
              <input type="radio" value="copied" {...form.register("how")} />
              <span>
                When their disks are local{" "}
                <span className="text-muted text-xs">later, but they need this site no more</span>
              </span>
            </label>
          </fieldset>
          {!v.berth && (
            <fieldset className="grid gap-1.5">
              <legend className="mb-1 font-medium">Networks</legend>
              {shown.map((h) => (
                <label key={h} className="grid items-center gap-2 sm:grid-cols-2">
                  <span>
                    {h} <span className="text-muted text-xs">at home, becomes</span>
                  </span>
                  <select
                    className={inputLook}
                    value={v.networks[homes.indexOf(h)] ?? ""}
                    onChange={(e) => form.setValue(`networks.${homes.indexOf(h)}`, e.target.value)}
                  >
                    <option value="">not connected</option>
                    {inv.data?.networks.map((n) => (
                      <option key={n.id} value={n.id}>
                        {n.name}
                      </option>
                    ))}
                  </select>
                </label>
              ))}
              {!shown.length && <span className="text-muted">They have no network cards.</span>}
              {onHome && (
                <label className="flex items-baseline gap-2 rounded bg-tight-bg px-2.5 py-1.5 text-tight-ink text-xs">
                  <input type="checkbox" {...form.register("homeNetwork")} />
                  <span>
                    ◆ This is the network of the machines at home. I know that they do not run there, or that it is
                    another network of the same name. The cards get new addresses.
                  </span>
                </label>
              )}
              {refusal?.at("networks").map((t) => (
                <div key={t} className="text-over-ink text-xs">
                  ✕ {t}
                </div>
              ))}
            </fieldset>
          )}
          <Field
            label="Put before their names"
            hint="Where a machine of that name is there already."
            faults={refusal?.at("prefix")}
          >
            {(id, d) => <input id={id} aria-describedby={d} className={inputLook} {...form.register("prefix")} />}
          </Field>
          {refusal?.errors.length && !refusal.errors.every((e) => fields.includes(e.field)) ? (
            <Fault of={refusal} />
          ) : null}
        </>
      )}
    </FormDialog>
  );
}

/** ByBerth tells what the berth makes of the chosen machines. */
function ByBerth({ group, kind, machines }: { group: string; kind: "drill" | "live"; machines: string[] }) {
  const berth = useQuery({
    queryKey: ["groups", group, "berth"],
    queryFn: () => ask(api.GET("/groups/{id}/berth", { params: { path: { id: group } } })),
  });
  if (berth.error) return <Fault of={berth.error} />;
  const drill = kind === "drill";
  return (
    <div className="grid gap-0.5 rounded bg-still-bg px-2.5 py-2 text-xs">
      {berth.data?.arrivals
        .filter((a) => machines.includes(a.id))
        .map((a) => (
          <div key={a.id} className="grid gap-x-2 sm:grid-cols-[11rem_1fr]">
            <span className="font-medium">{(drill ? a.drillName : a.name).value}</span>
            <span className="text-muted">
              {a.platform.value || "no platform is chosen"} · {count(drill ? a.drillCpus : a.cpus, "processor")},{" "}
              {size(drill ? a.drillMemoryBytes : a.memoryBytes)}
              {a.cards.map((c, i) => {
                const at = drill ? c.drill : c.live;
                return (
                  // biome-ignore lint/suspicious/noArrayIndexKey: cards have no other name, and stay in their order
                  <span key={i}>
                    {" · "}
                    {at.network.value && at.network.value !== "none" ? at.network.value : "not connected"} {at.address}
                  </span>
                );
              })}
            </span>
          </div>
        ))}
      <Link className="text-link underline" to={`/groups/${group}/berth`}>
        Look at the berth
      </Link>
    </div>
  );
}
