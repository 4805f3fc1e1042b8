import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link } from "react-router";
import { useAddress, useDialog } from "../address";
import { api, ask, type Point } from "../api";
import { asks, useMay } from "../asks";
import { Each, every } from "../dialog";
import { count, size, span, when } from "../format";
import { type Column, given, paged, RowTable, useList } from "../table";
import { Button, Card, Fault, inputLook, Page, RowMenu, When } from "../ui";
import { LockDialog, PinDialog } from "./holding";
import { LandDialog } from "./landdialog";
import { DeletePoints, ExportDialog, ServeDialog } from "./pointdialogs";
import { Unusual } from "./unusual";
import { OperationsCard, ServedCard } from "./work";

type Open = "start" | "pin" | "lock" | "serve" | "export" | "delete";

const columns: Column<Point>[] = [
  {
    id: "point",
    head: "Point",
    look: "whitespace-nowrap",
    cell: (p) => (
      <>
        <Link to={`/groups/${p.group}`} className="font-semibold">
          {p.groupName}
        </Link>{" "}
        {p.number}
        {p.pinned && (
          <span
            className="ml-1.5 text-tight-ink"
            title={`pinned${p.pinnedUntil ? ` until ${when(p.pinnedUntil)}` : ""}${p.pinnedBy ? ` by ${p.pinnedBy}` : ""}${p.pinReason ? `: ${p.pinReason}` : ""}`}
          >
            ◆ pinned
          </span>
        )}
        {p.lockedUntil && (
          <span className="ml-1.5 text-ink" title={`nobody can delete it before ${when(p.lockedUntil)}`}>
            ▣ locked
          </span>
        )}
        {p.newest && <span className="ml-1.5 text-muted text-xs">newest</span>}
        {p.where.includes("long-term store") && (
          <span
            className="ml-1.5 text-muted text-xs"
            title={p.where.length > 1 ? "in the point store and in the long-term store" : "in the long-term store only"}
          >
            ⇲ long-term{p.where.length > 1 && " too"}
          </span>
        )}
        <Unusual p={p} />
        {p.lostBytes > 0 && (
          <div className="text-over-ink text-xs" title="The page Point store lists what.">
            ✕ {size(p.lostBytes)} cannot be read
          </div>
        )}
      </>
    ),
  },
  {
    id: "captured",
    head: "Captured",
    sort: "captured",
    down: true,
    look: "whitespace-nowrap",
    cell: (p) => <When at={p.captureAt} />,
  },
  { id: "loses", head: "Would lose", right: true, cell: (p) => span(p.losesSeconds) },
  { id: "changed", head: "Changed", sort: "changed", down: true, right: true, cell: (p) => size(p.changedBytes) },
  {
    id: "alone",
    head: "Alone",
    right: true,
    look: "hidden 2xl:table-cell",
    cell: (p) => (
      <span title="Needed by no other point: what deleting it gives back in the end">{size(p.aloneBytes)}</span>
    ),
  },
  {
    id: "whole",
    head: "Whole",
    sort: "whole",
    down: true,
    right: true,
    look: "hidden 2xl:table-cell",
    cell: (p) => size(p.usedBytes),
  },
  {
    id: "consistent",
    head: "Consistent",
    cell: (p) => (
      <>
        {p.consistency === "application" ? "▲ application" : "crash"}
        {!p.oneInstant && <div className="text-tight-ink text-xs">◆ each at its own instant</div>}
      </>
    ),
  },
  { id: "held", head: "Held", look: "whitespace-nowrap", cell: (p) => (p.held ? "here" : "other site") },
];

export function PointsPage() {
  const [at, set] = useAddress();
  const dialog = useDialog<Open>();
  const may = useMay();
  const qc = useQueryClient();
  const groups = useQuery(asks.groups);
  const by = { group: at("group"), consistent: at("consistent"), sort: at("sort") };
  const list = useList<Point>("points", by, 15_000, (limit, skip) =>
    paged(api.GET("/points", { params: { query: { ...given(by), limit, skip } } })),
  );
  const unpin = useMutation({
    mutationFn: (points: Point[]) =>
      every(points, (p) => ask(api.PATCH("/points/{id}", { params: { path: { id: p.id } }, body: { pinned: false } }))),
    onSettled: () => qc.invalidateQueries({ queryKey: ["points"] }),
  });
  const deletable = (p: Point) =>
    p.lockedUntil ? "It is locked." : p.pinned ? "Unpin it first." : p.inUse ? "It is in use." : undefined;
  const actions: Column<Point> = {
    id: "actions",
    head: "",
    right: true,
    cell: (p) =>
      p.held &&
      may.operate && (
        <span className="inline-flex gap-1">
          <Button small onClick={() => dialog.open("start", p.id)}>
            Start…
          </Button>
          <RowMenu
            of={`point ${p.number}`}
            items={[
              {
                text: p.pinned ? "Unpin" : "Pin…",
                act: () => (p.pinned ? unpin.mutate([p]) : dialog.open("pin", p.id)),
              },
              { text: "Serve…", act: () => dialog.open("serve", p.id) },
              { text: "Export…", act: () => dialog.open("export", p.id) },
              ...(may.administer
                ? [
                    { text: p.lockedUntil ? "Lock longer…" : "Lock…", act: () => dialog.open("lock", p.id) },
                    { text: "Delete…", act: () => dialog.open("delete", p.id), why: deletable(p) },
                  ]
                : []),
            ]}
          />
        </span>
      ),
  };
  const bulk = (chosen: Point[]) => {
    const held = chosen.filter((p) => p.held);
    const loose = held.filter((p) => !p.pinned);
    const fast = held.filter((p) => p.pinned);
    const free = held.filter((p) => !deletable(p));
    const ids = (ps: Point[]) => ps.map((p) => p.id);
    return (
      <>
        <Button small disabled={!loose.length} onClick={() => dialog.open("pin", ...ids(loose))}>
          Pin…
        </Button>
        <Button small disabled={!fast.length} onClick={() => unpin.mutate(fast)}>
          Unpin
        </Button>
        {may.administer && (
          <Button small kind="danger" disabled={!free.length} onClick={() => dialog.open("delete", ...ids(free))}>
            Delete{free.length < chosen.length && free.length > 0 ? ` ${free.length} of them` : ""}…
          </Button>
        )}
      </>
    );
  };
  const select = `${inputLook} !w-auto font-normal`;
  return (
    <Page title="Recovery points">
      <Fault of={list.error ?? unpin.error} />
      <ServedCard />
      <OperationsCard />
      <Card>
        <div className="flex flex-wrap gap-2 border-line border-b p-3">
          <select
            aria-label="Group"
            className={select}
            value={by.group}
            onChange={(e) => set({ group: e.target.value })}
          >
            <option value="">All groups</option>
            {groups.data?.map((g) => (
              <option key={g.id} value={g.id}>
                {g.name} ({g.direction === "out" ? "→" : "←"} {g.peer})
              </option>
            ))}
          </select>
          <select
            aria-label="Consistent"
            className={select}
            value={by.consistent}
            onChange={(e) => set({ consistent: e.target.value })}
          >
            <option value="">However consistent</option>
            <option value="application">Application-consistent</option>
            <option value="crash">Crash-consistent</option>
          </select>
          <span className="self-center text-muted text-xs">{count(list.total, "point")}</span>
        </div>
        <RowTable
          label="Recovery points"
          columns={[...columns, actions]}
          list={list}
          sort={by.sort || "-captured"}
          onSort={(sort) => set({ sort })}
          nameOf={(p) => `${p.groupName} ${p.number}`}
          bulk={may.operate ? bulk : undefined}
          none={
            by.group || by.consistent
              ? "No point fits."
              : "No point yet. The first one is sealed when a group's first copy is done."
          }
        />
      </Card>
      {dialog.name && (
        <Each
          of="points"
          ids={dialog.ids}
          load={(id) => ask(api.GET("/points/{id}", { params: { path: { id } } }))}
          onClose={dialog.close}
        >
          {(points) => <PointDialog open={dialog.name as Open} points={points} onClose={dialog.close} />}
        </Each>
      )}
    </Page>
  );
}

function PointDialog({ open, points, onClose }: { open: Open; points: Point[]; onClose: () => void }) {
  const first = points[0];
  if (open === "lock") return <LockDialog points={points} onClose={onClose} />;
  if (open === "pin") return <PinDialog points={points} onClose={onClose} />;
  if (open === "delete") return <DeletePoints points={points} onClose={onClose} />;
  if (!first) return null;
  if (open === "serve") return <ServeDialog p={first} onClose={onClose} />;
  if (open === "export") return <ExportDialog p={first} onClose={onClose} />;
  return <LandDialog p={first} onClose={onClose} />;
}
