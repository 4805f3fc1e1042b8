import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, ask, Problem, type Schemas } from "../api";
import { count, size, when } from "../format";
import { Button, Card, Empty, Fault, Field, inputLook, Modal, Page, State, When } from "../ui";
import { LinkCard, Steps } from "./link";
import { CopiesCard, StoreCard } from "./store";

export function SitesPage() {
  const links = useQuery({ queryKey: ["links"], queryFn: () => ask(api.GET("/links")), refetchInterval: 5000 });
  const platforms = useQuery({
    queryKey: ["platforms"],
    queryFn: () => ask(api.GET("/platforms")),
    refetchInterval: 10_000,
  });
  const [dialog, setDialog] = useState<"invite" | "accept" | "platform">();
  return (
    <Page
      title="Sites & links"
      actions={
        <>
          <Button onClick={() => setDialog("platform")}>Add a platform…</Button>
          <Button onClick={() => setDialog("accept")}>Accept an invitation…</Button>
          <Button kind="main" onClick={() => setDialog("invite")}>
            Invite another site…
          </Button>
        </>
      }
    >
      <Fault of={links.error} />
      <div className="grid items-start gap-4 lg:grid-cols-2">
        {links.data?.map((l) => (
          <LinkCard key={l.id} l={l} />
        ))}
        {links.data && !links.data.length && (
          <Card title="Links">
            <Empty action={<Button onClick={() => setDialog("invite")}>Invite another site…</Button>}>
              Make an invitation here and accept it at the other site, or the other way round.
            </Empty>
          </Card>
        )}
      </div>
      <OpenInvitations />
      <div className="grid items-start gap-4 lg:grid-cols-2">
        {platforms.data?.map((p) => (
          <PlatformCard key={p.id} p={p} />
        ))}
        {platforms.data && !platforms.data.length && (
          <Card title="Platforms">
            <Empty action={<Button onClick={() => setDialog("platform")}>Add a platform…</Button>}>
              A platform is where this site's machines run.
            </Empty>
          </Card>
        )}
        <StoreCard />
        <CopiesCard />
        <TokensCard />
      </div>
      {dialog === "invite" && <InviteDialog onClose={() => setDialog(undefined)} />}
      {dialog === "accept" && <AcceptDialog onClose={() => setDialog(undefined)} />}
      {dialog === "platform" && <PlatformDialog onClose={() => setDialog(undefined)} />}
    </Page>
  );
}

/** Tokens are for programs and the command line; a secret is shown once. */
function TokensCard() {
  const qc = useQueryClient();
  const [name, setName] = useState("");
  const q = useQuery({ queryKey: ["tokens"], queryFn: () => ask(api.GET("/tokens")) });
  const again = () => qc.invalidateQueries({ queryKey: ["tokens"] });
  const make = useMutation({
    mutationFn: () => ask(api.POST("/tokens", { body: { name, days: 365 } })),
    onSuccess: () => {
      setName("");
      again();
    },
  });
  const revoke = useMutation({
    mutationFn: (id: string) => ask(api.DELETE("/tokens/{id}", { params: { path: { id } } })),
    onSuccess: again,
  });
  const p = make.error instanceof Problem ? make.error : undefined;
  return (
    <Card title="API tokens" aside="for programs and the command line">
      <ul>
        {q.data?.map((t) => (
          <li key={t.id} className="flex items-center justify-between gap-2 border-line border-b px-4 py-2">
            <span>
              <strong>{t.name}</strong>{" "}
              <span className="text-muted text-xs">
                made {when(t.createdAt)} · used {when(t.lastUsedAt)} ·{" "}
                {t.expiresAt ? `ends ${when(t.expiresAt)}` : "no end"}
              </span>
            </span>
            <Button onClick={() => revoke.mutate(t.id)}>Revoke</Button>
          </li>
        ))}
      </ul>
      <form
        className="grid gap-2 px-4 py-3"
        onSubmit={(e) => {
          e.preventDefault();
          make.mutate();
        }}
      >
        <Field label="New token for" hint="What will use it; good for a year." faults={p?.at("name")}>
          {(id) => <input id={id} className={inputLook} value={name} onChange={(e) => setName(e.target.value)} />}
        </Field>
        {make.data && (
          <div className="rounded bg-good-bg px-2.5 py-1.5 text-good-ink text-xs">
            Shown once: <code className="select-all break-all">{make.data.secret}</code>
          </div>
        )}
        <Fault of={revoke.error ?? (p && !p.at("name").length ? p : undefined)} />
        <Button type="submit" className="justify-self-start" disabled={make.isPending}>
          Make a token
        </Button>
      </form>
    </Card>
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

function OpenInvitations() {
  const qc = useQueryClient();
  const q = useQuery({
    queryKey: ["invitations"],
    queryFn: () => ask(api.GET("/invitations")),
    refetchInterval: 10_000,
  });
  const withdraw = useMutation({
    mutationFn: (id: string) => ask(api.DELETE("/invitations/{id}", { params: { path: { id } } })),
    onSuccess: () => qc.invalidateQueries({ queryKey: ["invitations"] }),
  });
  if (!q.data?.length) return null;
  return (
    <Card title="Open invitations">
      <ul>
        {q.data.map((i) => (
          <li
            key={i.id}
            className="flex items-center justify-between gap-2 border-line border-t px-4 py-2 first:border-t-0"
          >
            <span>
              for <strong>{i.forSite ?? "any site"}</strong> · good until {when(i.expiresAt)} · made by {i.createdBy}
            </span>
            <Button onClick={() => withdraw.mutate(i.id)}>Withdraw</Button>
          </li>
        ))}
      </ul>
    </Card>
  );
}

function InviteDialog({ onClose }: { onClose: () => void }) {
  const qc = useQueryClient();
  const [forSite, setForSite] = useState("");
  const [copied, setCopied] = useState(false);
  const m = useMutation({
    mutationFn: () => ask(api.POST("/invitations", { body: { forSite: forSite || undefined, minutes: 60 } })),
    onSuccess: () => qc.invalidateQueries({ queryKey: ["invitations"] }),
  });
  const p = m.error instanceof Problem ? m.error : undefined;
  return (
    <Modal
      open
      onOpenChange={(o) => !o && onClose()}
      title="Invite another site"
      intro="One string holds the address, the key and a secret. It is good once, for an hour."
    >
      {m.data ? (
        <>
          <label htmlFor="invitation" className="font-medium">
            Paste this at the other site, under “Accept an invitation”
          </label>
          <textarea
            id="invitation"
            readOnly
            rows={5}
            className={`${inputLook} break-all font-mono text-xs`}
            value={m.data.text}
            onFocus={(e) => e.target.select()}
          />
          {m.data.warning && (
            <div className="rounded bg-tight-bg px-2.5 py-1.5 text-tight-ink text-xs">◆ {m.data.warning}</div>
          )}
          <div className="flex justify-end gap-2">
            <Button
              onClick={() => {
                navigator.clipboard.writeText(m.data.text).then(() => setCopied(true));
              }}
            >
              {copied ? "Copied" : "Copy"}
            </Button>
            <Button kind="main" onClick={onClose}>
              Done
            </Button>
          </div>
        </>
      ) : (
        <form
          className="grid gap-3"
          onSubmit={(e) => {
            e.preventDefault();
            m.mutate();
          }}
        >
          <Field label="Only for the site called" hint="Leave empty for any site." faults={p?.at("forSite")}>
            {(id) => (
              <input id={id} className={inputLook} value={forSite} onChange={(e) => setForSite(e.target.value)} />
            )}
          </Field>
          <Fault of={p && !p.at("forSite").length ? p : undefined} />
          <div className="flex justify-end gap-2">
            <Button onClick={onClose}>Not now</Button>
            <Button kind="main" type="submit">
              Make the invitation
            </Button>
          </div>
        </form>
      )}
    </Modal>
  );
}

function AcceptDialog({ onClose }: { onClose: () => void }) {
  const qc = useQueryClient();
  const [invitation, set] = useState("");
  const m = useMutation({
    mutationFn: () => ask(api.POST("/links", { body: { invitation } })),
    onSuccess: () => {
      qc.invalidateQueries({ queryKey: ["links"] });
      onClose();
    },
  });
  const p = m.error instanceof Problem ? m.error : undefined;
  return (
    <Modal
      open
      onOpenChange={(o) => !o && onClose()}
      title="Accept an invitation"
      intro="Paste the string that the other site made."
    >
      <form
        className="grid gap-3"
        onSubmit={(e) => {
          e.preventDefault();
          m.mutate();
        }}
      >
        <Field label="Invitation" faults={p?.at("invitation")}>
          {(id, d) => (
            <textarea
              id={id}
              aria-describedby={d}
              rows={5}
              required
              className={`${inputLook} break-all font-mono text-xs`}
              value={invitation}
              onChange={(e) => set(e.target.value)}
            />
          )}
        </Field>
        <Fault of={p && !p.at("invitation").length ? p : undefined} />
        <div className="flex justify-end gap-2">
          <Button onClick={onClose}>Not now</Button>
          <Button kind="main" type="submit" disabled={m.isPending}>
            Pair the sites
          </Button>
        </div>
      </form>
    </Modal>
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
