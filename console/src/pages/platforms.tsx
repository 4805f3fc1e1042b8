import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link } from "react-router";
import { useDialog } from "../address";
import { api, ask, type Schemas } from "../api";
import { asks, useMay } from "../asks";
import { ConfirmDialog } from "../dialog";
import { count, size } from "../format";
import { Button, Card, Empty, Fault, Health, Page, State, When } from "../ui";
import { Steps } from "./link";
import { PlatformDialog } from "./platformdialog";

export function PlatformsPage() {
  const platforms = useQuery(asks.platforms);
  const dialog = useDialog<"add">();
  const may = useMay();
  return (
    <Page
      title="Platforms"
      actions={
        may.administer && (
          <Button kind="main" onClick={() => dialog.open("add")}>
            Add a platform…
          </Button>
        )
      }
    >
      <Fault of={platforms.error} />
      <div className="grid items-start gap-4 lg:grid-cols-2">
        {platforms.data?.map((p) => (
          <PlatformCard key={p.id} p={p} />
        ))}
        {platforms.data && !platforms.data.length && (
          <Card title="Platforms">
            <Empty action={may.administer && <Button onClick={() => dialog.open("add")}>Add a platform…</Button>}>
              A platform is where this site's machines run.
            </Empty>
          </Card>
        )}
      </div>
      {dialog.name === "add" && <PlatformDialog onClose={dialog.close} />}
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
  const dialog = useDialog<"remove">();
  const may = useMay();
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
    <Card title={`Platform ${p.name}`} aside={<State of={p.health?.word ?? (p.reachable ? "up" : "down")} />}>
      <div className="grid gap-3 px-4 py-3">
        <div className="text-muted text-xs">
          {p.kind} · {p.address} · {p.user && `as ${p.user} · `}
          {count(p.machines, "machine")} · seen <When at={p.seenAt} />
        </div>
        {p.warning && <div className="rounded bg-tight-bg px-2.5 py-1.5 text-tight-ink text-xs">◆ {p.warning}</div>}
        {p.health?.cause ? (
          <Health of={p.health} />
        ) : (
          p.error && <div className="text-over-ink text-xs">✕ {p.error}</div>
        )}
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
        <Fault of={test.error} />
        {may.operate && (
          <div className="flex gap-2">
            <Button disabled={test.isPending} onClick={() => test.mutate()}>
              Test step by step
            </Button>
            <Link
              to={`/berths/platform/${p.id}`}
              className="rounded-md border border-line bg-card px-3 py-1.5 font-semibold text-[13px] hover:border-muted"
            >
              How machines arrive
            </Link>
            {may.administer && (
              <Button kind="danger" onClick={() => dialog.open("remove", p.id)}>
                Remove…
              </Button>
            )}
          </div>
        )}
      </div>
      {dialog.name === "remove" && dialog.ids[0] === p.id && (
        <ConfirmDialog
          title={`Remove the platform ${p.name}`}
          intro="This site forgets its address and password. Its machines are not touched. One whose machines a group protects cannot be removed."
          ask="the platform's name"
          name={p.name}
          act={() => ask(api.DELETE("/platforms/{id}", { params: { path: { id: p.id } } }))}
          done={() => {
            qc.invalidateQueries({ queryKey: ["platforms"] });
            dialog.close();
          }}
          onClose={dialog.close}
          go="Remove the platform"
          stay="Leave it"
        />
      )}
    </Card>
  );
}
