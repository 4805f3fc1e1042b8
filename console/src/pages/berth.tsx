import { keepPreviousData, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { type ReactNode, useState } from "react";
import { Link, useParams } from "react-router";
import { api, ask, Problem, type Schemas } from "../api";
import { useMay } from "../asks";
import { useDraft } from "../draft";
import { count } from "../format";
import { useSettled } from "../settled";
import { Button, Card, Empty, Fault, Page, td, th } from "../ui";
import { Findings, NetworkTable, Places, Rules, WavesCard } from "./berthfields";
import { Arrivals } from "./berthmachines";
import { RunbookCard } from "./runbook";

type Berth = Schemas["Berth"];

/** GroupBerthPage says how a group's machines arrive at the recovery site. */
export function GroupBerthPage() {
  const { id = "" } = useParams();
  const group = useQuery({
    queryKey: ["group", id],
    queryFn: () => ask(api.GET("/groups/{id}", { params: { path: { id } } })),
  });
  const saved = useQuery({
    queryKey: ["berth", id],
    queryFn: () => ask(api.GET("/groups/{id}/berth", { params: { path: { id } } })),
    retry: false,
  });
  return (
    <Page
      crumbs={<Link to={`/groups/${id}`}>{group.data?.name ?? "Group"}</Link>}
      title="Berth"
      actions={
        saved.data && (
          <span className="text-muted text-xs">
            kept at {saved.data.site}, revision {saved.data.revision}; machines {saved.data.machines}
          </span>
        )
      }
    >
      <Fault of={saved.error ?? group.error} />
      {saved.data && <GroupForm key={saved.data.revision} id={id} saved={saved.data} />}
      {saved.data && <WayBack id={id} />}
    </Page>
  );
}

/** WayBack is the berth by which the machines return, filled from where they run today. */
function WayBack({ id }: { id: string }) {
  const back = useQuery({
    queryKey: ["berth", id, "back"],
    queryFn: () => ask(api.GET("/groups/{id}/berth/back", { params: { path: { id } } })),
    retry: false,
  });
  const v = back.data;
  const b = v?.berth;
  return (
    <Card title="Way back" aside={v ? `to ${v.site}; machines ${v.from}` : undefined}>
      <Fault of={back.error} />
      {v?.notes.map((n) => (
        <p key={n} className="px-4 pt-2 text-tight-ink text-xs">
          ◆ {n}
        </p>
      ))}
      {v && !b?.machines?.length && <Empty>Nothing is known here yet of where its machines run.</Empty>}
      {!!b?.machines?.length && (
        <table className="w-full">
          <thead>
            <tr>
              <th className={th}>Machine here</th>
              <th className={th}>Name there</th>
              <th className={th}>Pool, datastore, folder</th>
              <th className={th}>Networks and addresses</th>
            </tr>
          </thead>
          <tbody>
            {b.machines.map((m) => (
              <tr key={m.machine} className="border-line border-t">
                <td className={`${td} font-semibold`}>{m.machine}</td>
                <td className={td}>{m.name}</td>
                <td className={td}>
                  {[m.pool ?? b.pool, m.datastore ?? b.datastore, m.folder ?? b.folder].filter(Boolean).join(", ")}
                </td>
                <td className={td}>
                  {m.cards?.map((c) => (
                    <div key={c.card}>
                      {c.live} {c.address}
                      {c.gateway && c.gateway !== "none" ? ` by ${c.gateway}` : ""}
                    </div>
                  ))}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </Card>
  );
}

function GroupForm({ id, saved }: { id: string; saved: Schemas["BerthView"] }) {
  const may = useMay();
  const qc = useQueryClient();
  const draft = useDraft<Berth>(`berth ${id}`, saved.berth);
  const settled = useSettled(JSON.stringify(draft.value));
  const preview = useQuery({
    queryKey: ["berth-preview", id, settled],
    queryFn: () => ask(api.POST("/groups/{id}/berth/preview", { params: { path: { id } }, body: JSON.parse(settled) })),
    placeholderData: keepPreviousData,
    retry: false,
  });
  const save = useMutation({
    mutationFn: () =>
      ask(
        api.PUT("/groups/{id}/berth", {
          params: { path: { id } },
          body: { revision: saved.revision, berth: draft.value },
        }),
      ),
    onSuccess: (v) => {
      draft.drop();
      qc.setQueryData(["berth", id], v);
    },
  });
  const v = preview.data ?? saved;
  const set = may.administer ? draft.set : undefined;
  return (
    <>
      <Findings faults={v.faults} warnings={v.warnings} />
      <Arrivals b={draft.value} set={set} v={v} />
      <div className="grid items-start gap-4 xl:grid-cols-2">
        <Places b={draft.value} set={set} v={v} />
        <div className="grid gap-4">
          <NetworkTable b={draft.value} set={set} choices={v.choices} arrivals={v.arrivals} />
          <Rules b={draft.value} set={set} faults={v.faults} />
        </div>
      </div>
      <WavesCard b={draft.value} set={set} arrivals={v.arrivals} />
      <RunbookCard b={draft.value} set={set} choices={v.choices} arrivals={v.arrivals} />
      <Saving
        draft={draft}
        faults={v.faults.length}
        error={save.error ?? preview.error}
        busy={save.isPending}
        save={() => save.mutate()}
        again={() => qc.invalidateQueries({ queryKey: ["berth", id] })}
      />
    </>
  );
}

/** Saving is the foot of a form whose draft is kept. */
function Saving(p: {
  draft: { changed: boolean; found: boolean; drop: () => void };
  faults: number;
  error: unknown;
  busy: boolean;
  save: () => void;
  again: () => void;
  children?: ReactNode;
}) {
  const stale = p.error instanceof Problem && p.error.status === 412;
  if (!p.draft.changed && !p.error) return null;
  return (
    <Card className="sticky bottom-3 shadow-xl">
      <div className="flex flex-wrap items-center gap-3 px-4 py-3">
        <div className="grow">
          <Fault of={p.error} />
          {!p.error && p.draft.found && <span>What you had typed here before was kept. </span>}
          {!p.error && (
            <span className={p.faults ? "text-over-ink" : "text-muted"}>
              {p.faults ? `✕ ${count(p.faults, "error")}: mend what is marked above, then save.` : "Not saved yet."}
            </span>
          )}
          {p.children}
        </div>
        {stale && <Button onClick={p.again}>Look again, and keep what I typed</Button>}
        <Button onClick={p.draft.drop}>Give it up</Button>
        <Button kind="main" disabled={p.busy || p.faults > 0 || !p.draft.changed} onClick={p.save}>
          Save
        </Button>
      </div>
    </Card>
  );
}

/** BerthDefaultPage is the default of a link or platform. */
export function BerthDefaultPage() {
  const { of = "", id = "" } = useParams();
  const kind = of === "platform" ? "platform" : "link";
  const saved = useQuery({
    queryKey: ["berth-default", kind, id],
    queryFn: () => ask(api.GET("/berths/{of}/{id}", { params: { path: { of: kind, id } } })),
    retry: false,
  });
  return (
    <Page
      crumbs={kind === "link" ? <Link to="/sites">Sites</Link> : <Link to="/platforms">Platforms</Link>}
      title={saved.data ? `How machines arrive ${kind === "link" ? "from" : "on"} ${saved.data.name}` : "Default"}
    >
      <Fault of={saved.error} />
      {saved.data && <DefaultForm key={saved.data.revision} kind={kind} saved={saved.data} />}
    </Page>
  );
}

function DefaultForm({ kind, saved }: { kind: "link" | "platform"; saved: Schemas["BerthDefault"] }) {
  const may = useMay();
  const qc = useQueryClient();
  const draft = useDraft<Berth>(`berth ${kind} ${saved.id}`, saved.berth);
  const [path] = useState({ of: kind, id: saved.id });
  const settled = useSettled(JSON.stringify(draft.value));
  const preview = useQuery({
    queryKey: ["berth-default-preview", path, settled],
    queryFn: () => ask(api.POST("/berths/{of}/{id}/preview", { params: { path }, body: JSON.parse(settled) })),
    placeholderData: keepPreviousData,
    retry: false,
  });
  const save = useMutation({
    mutationFn: () =>
      ask(api.PUT("/berths/{of}/{id}", { params: { path }, body: { revision: saved.revision, berth: draft.value } })),
    onSuccess: (v) => {
      draft.drop();
      qc.setQueryData(["berth-default", kind, saved.id], v);
    },
  });
  const v = preview.data ?? saved;
  const set = may.administer ? draft.set : undefined;
  const moved = v.groups.filter((g) => g.changes.length > 0);
  return (
    <>
      <Findings faults={v.faults} warnings={v.warnings} />
      <div className="grid items-start gap-4 xl:grid-cols-2">
        <Places b={draft.value} set={set} v={{ ...v, arrivals: [] }} noPlatform={kind === "platform"} />
        <div className="grid gap-4">
          <NetworkTable b={draft.value} set={set} choices={v.choices} arrivals={[]} />
          <Rules b={draft.value} set={set} faults={v.faults} />
        </div>
      </div>
      <Card
        title="Groups that come here by it"
        aside={draft.changed ? `${count(moved.length, "group")} would arrive otherwise` : undefined}
      >
        {v.groups.length === 0 && <Empty>No group comes here by it yet.</Empty>}
        <ul>
          {v.groups.map((g) => (
            <li key={g.id} className="border-line border-t px-4 py-2">
              <Link to={`/groups/${g.id}/berth`} className="font-semibold text-link">
                {g.name}
              </Link>
              {g.changes.map((c) => (
                <div key={c} className="text-xs">
                  {c}
                </div>
              ))}
              {g.faults.map((f) => (
                <div key={f.field + f.message} className="text-over-ink text-xs">
                  ✕ {f.message}
                </div>
              ))}
              {!g.changes.length && !g.faults.length && <span className="ml-2 text-muted text-xs">as it is</span>}
            </li>
          ))}
        </ul>
      </Card>
      <Saving
        draft={draft}
        faults={v.faults.length}
        error={save.error ?? preview.error}
        busy={save.isPending}
        save={() => save.mutate()}
        again={() => qc.invalidateQueries({ queryKey: ["berth-default", kind] })}
      />
    </>
  );
}
