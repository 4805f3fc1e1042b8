import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate } from "react-router";
import { api, ask, type Point, Problem, type Schemas } from "../api";
import { asks } from "../asks";
import { count, rate, size, when } from "../format";
import { Bar, Button, Card, Empty, Fault, Field, inputLook, Modal, Page, State, td, th, When } from "../ui";

type Landing = Schemas["Landing"];

const networkText = (n: string) => n || "not connected";

export function LandingsPage() {
  const q = useQuery(asks.landings);
  const [removing, setRemoving] = useState<Landing>();
  return (
    <Page title="Landings">
      <Fault of={q.error} />
      <Card title="Machines made from points" aside={q.data && count(q.data.length, "machine")}>
        {q.data && !q.data.length ? (
          <Empty
            action={
              <Link to="/points" className="font-semibold text-link">
                Choose a point →
              </Link>
            }
          >
            Nothing has landed here. Start machines from a recovery point that this site holds.
          </Empty>
        ) : (
          <div className="overflow-x-auto">
            <table className="w-full">
              <thead>
                <tr>
                  <th className={th}>Machine</th>
                  <th className={th}>From</th>
                  <th className={th}>On</th>
                  <th className={th}>State</th>
                  <th className={th}>Network</th>
                  <th className={th}>
                    <span className="sr-only">Actions</span>
                  </th>
                </tr>
              </thead>
              <tbody>
                {q.data?.map((l) => (
                  <tr key={l.id} className="border-line border-t">
                    <td className={td}>
                      <div className="font-semibold">{l.name}</div>
                      <div className="text-muted text-xs">
                        {l.name === l.machine ? "" : `${l.machine} at home · `}by {l.createdBy}, {when(l.createdAt)}
                      </div>
                    </td>
                    <td className={td}>
                      {l.groupName} {l.pointNumber}
                      <div className="text-muted text-xs">
                        captured <When at={l.captureAt} />
                      </div>
                    </td>
                    <td className={td}>
                      {l.platformName}
                      <div className="text-muted text-xs">datastore {l.datastore}</div>
                    </td>
                    <td className={`${td} min-w-44`}>
                      <LandingState l={l} />
                    </td>
                    <td className={td}>
                      {l.nics.map((n) => (
                        <div key={n.mac}>
                          {networkText(n.network)}
                          <div className="text-muted text-xs">at home: {networkText(n.home)}</div>
                        </div>
                      ))}
                      {!l.nics.length && <span className="text-muted">no card</span>}
                    </td>
                    <td className={`${td} text-right`}>
                      <Button small kind="danger" onClick={() => setRemoving(l)}>
                        Remove…
                      </Button>
                    </td>
                  </tr>
                ))}
              </tbody>
            </table>
          </div>
        )}
      </Card>
      {removing && <RemoveDialog l={removing} onClose={() => setRemoving(undefined)} />}
    </Page>
  );
}

function LandingState({ l }: { l: Landing }) {
  const share = l.totalBytes ? l.localBytes / l.totalBytes : 0;
  const moving = l.state === "running" || l.state === "copying";
  return (
    <div className="grid gap-1">
      <div>
        <State of={l.error ? "landing failed" : `landing ${l.state}`} />
      </div>
      {l.error && <div className="text-over-ink text-xs">{l.error} It is tried again.</div>}
      {moving && (
        <>
          <Bar share={share} label={`${l.name} made local`} />
          <div className="text-muted text-xs">
            {size(l.localBytes)} of {size(l.totalBytes)} local
            {l.bytesPerSecond ? ` · ${rate(l.bytesPerSecond)}` : ""}
            {l.finishAt ? ` · done about ${when(l.finishAt)}` : ""}
          </div>
        </>
      )}
      {l.note && <div className="text-muted text-xs">{l.note}</div>}
      {l.startedAt && (
        <div className="text-muted text-xs">
          runs since <When at={l.startedAt} />
        </div>
      )}
    </div>
  );
}

function RemoveDialog({ l, onClose }: { l: Landing; onClose: () => void }) {
  const qc = useQueryClient();
  const [name, setName] = useState("");
  const m = useMutation({
    mutationFn: () => ask(api.DELETE("/landings/{id}", { params: { path: { id: l.id } } })),
    onSuccess: () => {
      qc.invalidateQueries({ queryKey: ["landings"] });
      onClose();
    },
  });
  return (
    <Modal
      open
      onOpenChange={(o) => !o && onClose()}
      title={`Remove ${l.name}`}
      intro={`It is stopped at once, and its disks on ${l.platformName} are deleted with all that it wrote. The point stays.`}
    >
      <Field label={`To go on, type the machine's name: ${l.name}`}>
        {(id) => <input id={id} className={inputLook} value={name} onChange={(e) => setName(e.target.value)} />}
      </Field>
      <Fault of={m.error} />
      <div className="flex justify-end gap-2">
        <Button onClick={onClose}>Leave it running</Button>
        <Button kind="danger" disabled={name !== l.name || m.isPending} onClick={() => m.mutate()}>
          Remove the machine
        </Button>
      </div>
    </Modal>
  );
}

/** LandDialog starts machines from a point. */
export function LandDialog({ p, onClose }: { p: Point; onClose: () => void }) {
  const go = useNavigate();
  const qc = useQueryClient();
  const platforms = useQuery(asks.platforms);
  const able = platforms.data?.filter((x) => x.lands) ?? [];
  const [chosen, setChosen] = useState(p.machines.map((m) => m.id));
  const [platform, setPlatform] = useState("");
  const on = platform || able[0]?.id || "";
  const inv = useQuery({
    queryKey: ["platforms", on, "inventory"],
    queryFn: () => ask(api.GET("/platforms/{id}/inventory", { params: { path: { id: on } } })),
    enabled: !!on,
  });
  const [datastore, setDatastore] = useState("");
  const [how, setHow] = useState("at-once");
  const [prefix, setPrefix] = useState("");
  const [networks, setNetworks] = useState<Record<string, string>>({});
  const [homeNetwork, setHomeNetwork] = useState(false);
  const [notWhole, setNotWhole] = useState(false);
  const machines = p.machines.filter((m) => chosen.includes(m.id));
  const homes = [...new Set(machines.flatMap((m) => m.nics.map((n) => n.network)))];
  const m = useMutation({
    mutationFn: () =>
      ask(
        api.POST("/landings", {
          body: {
            point: p.id,
            machines: chosen,
            platform: on,
            datastore: datastore || inv.data?.datastores[0]?.id,
            how,
            prefix,
            homeNetwork,
            notWhole,
            networks: Object.fromEntries(homes.filter((h) => networks[h]).map((h) => [h, networks[h] as string])),
          },
        }),
      ),
    onSuccess: () => {
      qc.invalidateQueries({ queryKey: ["landings"] });
      go("/landings");
    },
  });
  const bad = m.error instanceof Problem ? m.error : undefined;
  const shown = ["platform", "datastore", "networks", "prefix", "machines", "notWhole"];
  const onHome = homes.some((h) => networks[h] === h);
  if (platforms.data && !able.length)
    return (
      <Modal
        open
        onOpenChange={(o) => !o && onClose()}
        title="Start machines here"
        intro="This site has no platform on which machines can be started. Add one of the kind libvirt on the page Platforms."
      >
        <div className="flex justify-end">
          <Button onClick={onClose}>Close</Button>
        </div>
      </Modal>
    );
  return (
    <Modal
      open
      onOpenChange={(o) => !o && onClose()}
      title={`Start machines from ${p.groupName} ${p.number}`}
      intro={
        <>
          As they were <When at={p.captureAt} />. The machines at home are not touched, and the point stays.
        </>
      }
    >
      <form
        className="grid gap-3"
        onSubmit={(e) => {
          e.preventDefault();
          m.mutate();
        }}
      >
        <fieldset className="grid gap-1">
          <legend className="mb-1 font-medium">Machines</legend>
          {p.machines.map((x) => (
            <label key={x.id} className="flex items-baseline gap-2">
              <input
                type="checkbox"
                checked={chosen.includes(x.id)}
                onChange={() => setChosen(chosen.includes(x.id) ? chosen.filter((c) => c !== x.id) : [...chosen, x.id])}
              />
              {prefix}
              {x.name}
              <span className="text-muted text-xs">
                {count(x.disks.length, "disk")} · {size(x.disks.reduce((s, d) => s + d.sizeBytes, 0))}
              </span>
            </label>
          ))}
        </fieldset>
        {p.lostBytes > 0 && (
          <div className="grid gap-1">
            <label className="flex items-baseline gap-2 rounded bg-over-bg px-2.5 py-1.5 text-over-ink text-xs">
              <input type="checkbox" checked={notWhole} onChange={(e) => setNotWhole(e.target.checked)} />
              <span>
                ✕ {size(p.lostBytes)} of this point cannot be read. I know that another point may be better: start them
                all the same. Reading what is lost fails there.
              </span>
            </label>
            {bad?.at("notWhole").map((t) => (
              <div key={t} className="text-over-ink text-xs">
                ✕ {t}
              </div>
            ))}
          </div>
        )}
        <div className="grid gap-3 sm:grid-cols-2">
          <Field label="Platform" faults={bad?.at("platform")}>
            {(id, d) => (
              <select
                id={id}
                aria-describedby={d}
                className={inputLook}
                value={on}
                onChange={(e) => setPlatform(e.target.value)}
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
          <Field label="Datastore" faults={bad?.at("datastore")}>
            {(id, d) => (
              <select
                id={id}
                aria-describedby={d}
                className={inputLook}
                value={datastore || inv.data?.datastores[0]?.id}
                onChange={(e) => setDatastore(e.target.value)}
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
        <fieldset className="grid gap-1">
          <legend className="mb-1 font-medium">When they start</legend>
          <label className="flex items-baseline gap-2">
            <input type="radio" name="how" checked={how === "at-once"} onChange={() => setHow("at-once")} />
            <span>
              At once, off the point <span className="text-muted text-xs">and made local while they run</span>
            </span>
          </label>
          <label className="flex items-baseline gap-2">
            <input type="radio" name="how" checked={how === "copied"} onChange={() => setHow("copied")} />
            <span>
              When their disks are local{" "}
              <span className="text-muted text-xs">later, but they need this site no more</span>
            </span>
          </label>
        </fieldset>
        <fieldset className="grid gap-1.5">
          <legend className="mb-1 font-medium">Networks</legend>
          {homes.map((h) => (
            <label key={h} className="grid items-center gap-2 sm:grid-cols-2">
              <span>
                {h} <span className="text-muted text-xs">at home, becomes</span>
              </span>
              <select
                className={inputLook}
                value={networks[h] ?? ""}
                onChange={(e) => setNetworks({ ...networks, [h]: e.target.value })}
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
          {!homes.length && <span className="text-muted">They have no network cards.</span>}
          {onHome && (
            <label className="flex items-baseline gap-2 rounded bg-tight-bg px-2.5 py-1.5 text-tight-ink text-xs">
              <input type="checkbox" checked={homeNetwork} onChange={(e) => setHomeNetwork(e.target.checked)} />
              <span>
                ◆ This is the network of the machines at home. I know that they do not run there, or that it is another
                network of the same name. The cards get new addresses.
              </span>
            </label>
          )}
          {bad?.at("networks").map((t) => (
            <div key={t} className="text-over-ink text-xs">
              ✕ {t}
            </div>
          ))}
        </fieldset>
        <Field
          label="Put before their names"
          hint="Where a machine of that name is there already."
          faults={bad?.at("prefix")}
        >
          {(id, d) => (
            <input
              id={id}
              aria-describedby={d}
              className={inputLook}
              value={prefix}
              onChange={(e) => setPrefix(e.target.value)}
            />
          )}
        </Field>
        <Fault of={bad && !bad.errors.every((e) => shown.includes(e.field)) ? bad : undefined} />
        <div className="flex justify-end gap-2">
          <Button onClick={onClose}>Not now</Button>
          <Button kind="main" type="submit" disabled={m.isPending || !chosen.length || (onHome && !homeNetwork)}>
            Start {count(chosen.length, "machine")}
          </Button>
        </div>
      </form>
    </Modal>
  );
}
