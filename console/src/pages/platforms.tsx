import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, ask, Problem, type Schemas } from "../api";
import { asks } from "../asks";
import { count, size } from "../format";
import { Button, Card, Empty, Fault, Field, inputLook, Modal, Page, State, When } from "../ui";
import { Steps } from "./link";

export function PlatformsPage() {
  const platforms = useQuery(asks.platforms);
  const [adding, setAdding] = useState(false);
  return (
    <Page
      title="Platforms"
      actions={
        <Button kind="main" onClick={() => setAdding(true)}>
          Add a platform…
        </Button>
      }
    >
      <Fault of={platforms.error} />
      <div className="grid items-start gap-4 lg:grid-cols-2">
        {platforms.data?.map((p) => (
          <PlatformCard key={p.id} p={p} />
        ))}
        {platforms.data && !platforms.data.length && (
          <Card title="Platforms">
            <Empty action={<Button onClick={() => setAdding(true)}>Add a platform…</Button>}>
              A platform is where this site's machines run.
            </Empty>
          </Card>
        )}
      </div>
      {adding && <PlatformDialog onClose={() => setAdding(false)} />}
    </Page>
  );
}

function PlatformCard({ p }: { p: Schemas["Platform"] }) {
  const qc = useQueryClient();
  const inv = useQuery({
    queryKey: ["platforms", p.id, "inventory"],
    queryFn: () => ask(api.GET("/platforms/{id}/inventory", { params: { path: { id: p.id } } })),
    enabled: p.reachable,
  });
  const test = useMutation({
    mutationFn: () => ask(api.POST("/platforms/{id}/test", { params: { path: { id: p.id } } })),
  });
  const remove = useMutation({
    mutationFn: () => ask(api.DELETE("/platforms/{id}", { params: { path: { id: p.id } } })),
    onSuccess: () => qc.invalidateQueries({ queryKey: ["platforms"] }),
  });
  const free = (rs: Schemas["Resource"][]) =>
    rs.map((r) => (
      <div key={r.id}>
        {r.name}{" "}
        <span className="text-muted text-xs">
          {size(r.freeBytes)} of {size(r.totalBytes)} free
        </span>
      </div>
    ));
  return (
    <Card title={`Platform ${p.name}`} aside={<State of={!p.reachable ? "down" : p.error ? "part" : "up"} />}>
      <div className="grid gap-3 px-4 py-3">
        <div className="text-muted text-xs">
          {p.kind} · {p.address} · {p.user && `as ${p.user} · `}
          {count(p.machines, "machine")} · seen <When at={p.seenAt} />
        </div>
        {p.warning && <div className="rounded bg-tight-bg px-2.5 py-1.5 text-tight-ink text-xs">◆ {p.warning}</div>}
        {p.error && <div className="text-over-ink text-xs">✕ {p.error}</div>}
        {inv.data && (
          <dl className="grid gap-3 sm:grid-cols-2">
            {(
              [
                ["Hosts", free(inv.data.hosts)],
                ["Pools", free(inv.data.pools)],
                ["Datastores", free(inv.data.datastores)],
                [
                  "Networks",
                  inv.data.networks.map((n) => (
                    <div key={n.id}>
                      {n.name} <span className="text-muted text-xs">{n.note}</span>
                    </div>
                  )),
                ],
              ] as const
            ).map(([t, list]) => (
              <div key={t}>
                <dt className="text-muted text-xs">{t}</dt>
                <dd>{list}</dd>
              </div>
            ))}
          </dl>
        )}
        {test.data && <Steps t={test.data} />}
        <Fault of={test.error ?? remove.error} />
        <div className="flex gap-2">
          <Button disabled={test.isPending} onClick={() => test.mutate()}>
            Test step by step
          </Button>
          <Button kind="danger" onClick={() => remove.mutate()}>
            Remove
          </Button>
        </div>
      </div>
    </Card>
  );
}

function PlatformDialog({ onClose }: { onClose: () => void }) {
  const qc = useQueryClient();
  const [v, set] = useState({
    name: "",
    kind: "libvirt",
    address: "",
    user: "",
    password: "",
    certificates: "",
    nbdPorts: "",
    scratch: "",
  });
  const body = () =>
    v.kind === "lab"
      ? { name: v.name, kind: v.kind, address: v.address, user: v.user, password: v.password }
      : {
          name: v.name,
          kind: v.kind,
          address: v.address,
          libvirt: {
            certificates: v.certificates || undefined,
            nbdPorts: v.nbdPorts || undefined,
            scratch: v.scratch || undefined,
          },
        };
  const test = useMutation({ mutationFn: () => ask(api.POST("/platforms/test", { body: body() })) });
  const m = useMutation({
    mutationFn: () => ask(api.POST("/platforms", { body: body() })),
    onSuccess: () => {
      qc.invalidateQueries({ queryKey: ["platforms"] });
      qc.invalidateQueries({ queryKey: ["machines"] });
      onClose();
    },
  });
  const p = [m.error, test.error].find((e) => e instanceof Problem) as Problem | undefined;
  type Text = "name" | "address" | "user" | "password" | "certificates" | "nbdPorts" | "scratch";
  const text = (k: Text, label: string, hint?: string, optional = false) => (
    <Field label={label} hint={hint} faults={p?.at(k).length ? p.at(k) : p?.at(`libvirt.${k}`)}>
      {(id, d) => (
        <input
          id={id}
          aria-describedby={d}
          type={k === "password" ? "password" : "text"}
          autoComplete="off"
          required={!optional}
          className={inputLook}
          value={v[k]}
          onChange={(e) => set({ ...v, [k]: e.target.value })}
        />
      )}
    </Field>
  );
  return (
    <Modal
      open
      onOpenChange={(o) => !o && onClose()}
      title="Add a platform"
      intro="The connection is tested step by step before it is added."
    >
      <form
        className="grid gap-3"
        onSubmit={(e) => {
          e.preventDefault();
          m.mutate();
        }}
      >
        <div className="grid gap-3 sm:grid-cols-2">
          {text("name", "Name", "What people call it, such as harbour.")}
          <Field label="Kind">
            {(id) => (
              <select
                id={id}
                className={inputLook}
                value={v.kind}
                onChange={(e) => set({ ...v, kind: e.target.value })}
              >
                <option value="libvirt">QEMU and KVM through libvirt</option>
                <option value="lab">lab, the stand-in</option>
              </select>
            )}
          </Field>
        </div>
        {v.kind === "lab" ? (
          <>
            {text("address", "Address", "Such as http://lab.norhaven.example:7414; a full name or an IP address.")}
            <div className="grid gap-3 sm:grid-cols-2">
              {text("user", "User")}
              {text("password", "Password")}
            </div>
          </>
        ) : (
          <>
            {text(
              "address",
              "Hosts",
              "libvirt URIs with spaces between, such as qemu+tls://kvm1.skerry.example/system.",
            )}
            {text(
              "certificates",
              "Certificates",
              "Folder on this site's host with cacert.pem, clientcert.pem and clientkey.pem. Needed unless the hypervisor runs on this host.",
              true,
            )}
            <div className="grid gap-3 sm:grid-cols-2">
              {text("nbdPorts", "NBD ports of the hosts", "10809-10872 if left empty.", true)}
              {text("scratch", "Scratch folder on the hosts", "Beside each disk if left empty.", true)}
            </div>
          </>
        )}
        {test.data && <Steps t={test.data} />}
        <Fault of={p && (!p.errors.length || p.at("kind").length) ? p : undefined} />
        <div className="flex justify-end gap-2">
          <Button onClick={() => test.mutate()} disabled={test.isPending}>
            Test only
          </Button>
          <Button kind="main" type="submit" disabled={m.isPending}>
            Add
          </Button>
        </div>
      </form>
    </Modal>
  );
}
