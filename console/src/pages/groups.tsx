import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useMemo } from "react";
import { Link, useNavigate } from "react-router";
import { useAddress, useDialog } from "../address";
import { api, ask, type Group } from "../api";
import { useMay } from "../asks";
import { Each, every } from "../dialog";
import { count, size, span } from "../format";
import { type Column, given, paged, RowTable, useList } from "../table";
import { Button, Card, Empty, Fault, Find, inputLook, Page, State, When } from "../ui";
import { PauseDialog } from "./holding";

const columns: Column<Group>[] = [
  {
    id: "name",
    head: "Group",
    sort: "name",
    cell: (g) => (
      <>
        <Link to={`/groups/${g.id}`} className="font-semibold">
          {g.name}
        </Link>
        <div className="text-muted text-xs">{[count(g.machines.length, "machine"), ...g.tags].join(" · ")}</div>
      </>
    ),
  },
  { id: "way", head: "Way", look: "whitespace-nowrap", cell: (g) => `${g.home} → ${g.recovery}` },
  { id: "state", head: "State", cell: (g) => <State of={g.direction === "ended" ? "ended" : g.health} /> },
  {
    id: "exposure",
    head: "Exposure",
    sort: "exposure",
    down: true,
    right: true,
    cell: (g) => span(g.exposureSeconds),
  },
  { id: "target", head: "Target", sort: "target", right: true, cell: (g) => span(g.promise.rpoTargetSeconds) },
  { id: "backlog", head: "Backlog", sort: "backlog", down: true, right: true, cell: (g) => size(g.backlogBytes) },
  { id: "points", head: "Points", sort: "points", down: true, right: true, cell: (g) => g.points },
  {
    id: "next",
    head: "Next cycle",
    sort: "next",
    look: "whitespace-nowrap",
    cell: (g) => <When at={g.nextStartAt} />,
  },
];

const healths = ["failed over", "over", "stalled", "cut off", "tight", "seeding", "paused", "on target"];

export function GroupsPage() {
  const go = useNavigate();
  const may = useMay();
  const [at, set] = useAddress();
  const by = { q: at("q"), direction: at("way"), health: at("state"), sort: at("sort") };
  const list = useList<Group>("groups", by, 5000, (limit, skip) =>
    paged(api.GET("/groups", { params: { query: { ...given(by), limit, skip } } })),
  );
  const narrowed = !!(by.q || by.direction || by.health);
  const select = `${inputLook} !w-auto`;
  return (
    <Page
      title="Groups"
      actions={
        <>
          <Link to="/tiers" className="self-center font-semibold text-link">
            Tiers →
          </Link>
          {may.administer && (
            <Button kind="main" onClick={() => go("/groups/new")}>
              New group
            </Button>
          )}
        </>
      }
    >
      <Fault of={list.error} />
      <Card>
        <div className="flex flex-wrap gap-2 border-line border-b p-3">
          <Find label="Find groups" hint="Find by name, site, machine or tag" value={by.q} onFind={(q) => set({ q })} />
          <select
            aria-label="Way"
            className={select}
            value={by.direction}
            onChange={(e) => set({ way: e.target.value })}
          >
            <option value="">Going out, coming in and ended</option>
            <option value="out">Going out</option>
            <option value="in">Coming in</option>
            <option value="ended">Ended</option>
          </select>
          <select
            aria-label="State"
            className={select}
            value={by.health}
            onChange={(e) => set({ state: e.target.value })}
          >
            <option value="">Any state</option>
            {healths.map((h) => (
              <option key={h} value={h}>
                {h[0]?.toUpperCase()}
                {h.slice(1)}
              </option>
            ))}
          </select>
          <span className="self-center text-muted text-xs">{count(list.total, "group")}</span>
        </div>
        {list.known && !list.total && !narrowed ? (
          <Empty action={may.administer && <Button onClick={() => go("/groups/new")}>Make the first group</Button>}>
            No group yet. A group is captured at one instant and has one promise.
          </Empty>
        ) : (
          <Rows list={list} sort={by.sort} onSort={(sort) => set({ sort })} operate={may.operate} />
        )}
      </Card>
    </Page>
  );
}

/** Rows are the groups, and what can be done with several of them at once. */
function Rows(p: {
  list: ReturnType<typeof useList<Group>>;
  sort: string;
  onSort: (s: string) => void;
  operate: boolean;
}) {
  const qc = useQueryClient();
  const dialog = useDialog<"pause">();
  const again = () => {
    for (const k of ["groups", "group", "board"]) qc.invalidateQueries({ queryKey: [k] });
  };
  const act = useMutation({
    mutationFn: ({ what, groups }: { what: "run" | "resume"; groups: Group[] }) =>
      every(groups, (g) =>
        what === "run"
          ? ask(api.POST("/groups/{id}/run", { params: { path: { id: g.id } } }))
          : ask(api.POST("/groups/{id}/resume", { params: { path: { id: g.id } } })),
      ),
    onSettled: again,
  });
  const bulk = useMemo(() => {
    if (!p.operate) return undefined;
    return (chosen: Group[]) => {
      const out = chosen.filter((g) => g.direction === "out");
      const able = out.filter((g) => !g.paused && !g.running);
      const living = out.filter((g) => !g.paused);
      const held = out.filter((g) => g.paused);
      return (
        <>
          <Button small disabled={!able.length} onClick={() => act.mutate({ what: "run", groups: able })}>
            Run a cycle now
          </Button>
          <Button small disabled={!living.length} onClick={() => dialog.open("pause", ...living.map((g) => g.id))}>
            Pause…
          </Button>
          <Button small disabled={!held.length} onClick={() => act.mutate({ what: "resume", groups: held })}>
            Resume
          </Button>
          {out.length < chosen.length && (
            <span className="text-muted text-xs">
              {chosen.length - out.length} of them {chosen.length - out.length === 1 ? "is" : "are"} run from the other
              site, or ended.
            </span>
          )}
        </>
      );
    };
  }, [p.operate, act, dialog]);
  return (
    <>
      <Fault of={act.error} />
      <RowTable
        label="Groups"
        columns={columns}
        list={p.list}
        sort={p.sort}
        onSort={p.onSort}
        nameOf={(g) => g.name}
        bulk={bulk}
        none="No group fits."
      />
      {dialog.name === "pause" && (
        <Each
          of="group"
          ids={dialog.ids}
          load={(id) => ask(api.GET("/groups/{id}", { params: { path: { id } } }))}
          onClose={dialog.close}
        >
          {(groups) => <PauseDialog groups={groups} onClose={dialog.close} />}
        </Each>
      )}
    </>
  );
}
