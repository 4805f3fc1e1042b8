import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link, useNavigate } from "react-router";
import { useAddress, useDialog } from "../address";
import { api, ask, type Schemas } from "../api";
import { asks, useMay } from "../asks";
import { count, size, when } from "../format";
import { type Column, given, paged, RowTable, useList } from "../table";
import { Button, Card, Empty, Fault, Find, Health, inputLook, Page } from "../ui";
import { CoverageCard, LeaveOutDialog } from "./coverage";
import { SurveyDialog } from "./surveys";

type Machine = Schemas["Machine"];

const columns: Column<Machine>[] = [
  {
    id: "name",
    head: "Machine",
    sort: "name",
    look: "whitespace-nowrap",
    cell: (m) => (
      <>
        <div className="font-semibold">{m.name}</div>
        <div className="text-muted text-xs">{[m.folder, ...m.tags].join(" · ")}</div>
      </>
    ),
  },
  {
    id: "power",
    head: "Power",
    sort: "power",
    look: "whitespace-nowrap",
    cell: (m) => (m.power === "on" ? "● on" : m.power === "suspended" ? "‖ suspended" : `○ ${m.power}`),
  },
  {
    id: "memory",
    head: "CPUs · memory",
    sort: "memory",
    down: true,
    right: true,
    cell: (m) => (
      <>
        {m.cpus} · {size(m.memoryBytes)}
        <div className="text-muted text-xs">{m.guest}</div>
      </>
    ),
  },
  {
    id: "disks",
    head: "Disks",
    sort: "size",
    down: true,
    look: "whitespace-nowrap",
    cell: (m) => (
      <>
        {m.disks.map((d) => (
          <div key={d.key}>
            {d.label} {size(d.usedBytes)}{" "}
            <span className="text-muted text-xs">
              of {size(d.sizeBytes)} · {d.datastore}
            </span>
            {d.untrackable && (
              <span className="ml-1.5 text-over-ink text-xs" title={`${d.untrackable} ${d.mend ?? ""}`}>
                ✕ changes cannot be tracked
              </span>
            )}
          </div>
        ))}
        {!m.disks.length && <span className="text-muted">none</span>}
      </>
    ),
  },
  {
    id: "network",
    head: "Network",
    cell: (m) =>
      m.nics.map((n) => (
        <div key={n.mac}>
          {n.address || <span className="text-muted">{n.mac}</span>}
          <div className="text-muted text-xs">{n.network || "not connected"}</div>
        </div>
      )),
  },
  {
    id: "coverage",
    head: "Coverage",
    sort: "coverage",
    look: "min-w-44",
    cell: (m) => <Covered m={m} />,
  },
];

/** Covered says what protects a machine, or why nothing does. */
function Covered({ m }: { m: Machine }) {
  if (m.group)
    return (
      <>
        <Link to={`/groups/${m.group}`} className="font-semibold text-link">
          {m.groupName}
        </Link>
        {m.coverage === "by rule" && <span className="block text-muted text-xs">by its rule</span>}
        {m.health && m.health.word !== "fine" && (
          <span className="block">
            <Health of={m.health} />
          </span>
        )}
      </>
    );
  if (m.leftOut)
    return (
      <span className="text-xs">
        – left out on purpose: {m.leftOut.reason}
        <span className="block text-muted">
          {m.leftOut.by}, {when(m.leftOut.at)}
        </span>
      </span>
    );
  if (m.coverage === "cannot be")
    return (
      <span className="text-xs">
        <span className="text-over-ink">✕ {m.barrier}</span> {m.mend}
      </span>
    );
  if (m.coverage === "landed copy") return <span className="text-muted">made from a point here</span>;
  return <span className="text-tight-ink">◆ unprotected</span>;
}

export function MachinesPage() {
  const go = useNavigate();
  const may = useMay();
  const [at, set] = useAddress();
  const by = {
    q: at("q"),
    power: at("power"),
    coverage: at("coverage"),
    platform: at("platform"),
    sort: at("sort"),
  };
  const list = useList<Machine>("machines", by, 15_000, (limit, skip) =>
    paged(api.GET("/machines", { params: { query: { ...given(by), limit, skip } } })),
  );
  const platforms = useQuery(asks.platforms);
  const qc = useQueryClient();
  const dialog = useDialog<"leave-out" | "survey">();
  const takeBack = useMutation({
    mutationFn: (ids: string[]) => ask(api.POST("/machines/take-back", { body: { machines: ids } })),
    onSuccess: () => {
      qc.invalidateQueries({ queryKey: ["machines"] });
      qc.invalidateQueries({ queryKey: ["coverage"] });
    },
  });
  const select = `${inputLook} !w-auto`;
  return (
    <Page
      title="Machines"
      actions={
        may.operate ? (
          <Link to="/surveys" className="font-semibold text-link">
            Surveys →
          </Link>
        ) : undefined
      }
    >
      <Fault of={list.error ?? takeBack.error} />
      {dialog.name === "leave-out" && dialog.ids.length > 0 && (
        <LeaveOutDialog ids={dialog.ids} onClose={dialog.close} />
      )}
      {dialog.name === "survey" && dialog.ids.length > 0 && (
        <SurveyDialog ids={dialog.ids} onClose={dialog.close} onDone={(s) => go(`/surveys/${s.id}`)} />
      )}
      <CoverageCard />
      <Card>
        <div className="flex flex-wrap gap-2 border-line border-b p-3">
          <Find
            label="Find machines"
            hint="Find by name, folder, tag, host or address"
            value={by.q}
            onFind={(q) => set({ q })}
          />
          <select
            aria-label="Platform"
            className={select}
            value={by.platform}
            onChange={(e) => set({ platform: e.target.value })}
          >
            <option value="">Any platform</option>
            {platforms.data?.map((p) => (
              <option key={p.id} value={p.id}>
                {p.name}
              </option>
            ))}
          </select>
          <select
            aria-label="Power"
            className={select}
            value={by.power}
            onChange={(e) => set({ power: e.target.value })}
          >
            <option value="">On or off</option>
            <option value="on">On</option>
            <option value="off">Off</option>
            <option value="suspended">Suspended</option>
          </select>
          <select
            aria-label="Coverage"
            className={select}
            value={by.coverage}
            onChange={(e) => set({ coverage: e.target.value })}
          >
            <option value="">Any coverage</option>
            <option value="open">Nobody has decided</option>
            <option value="covered">In a group</option>
            <option value="unprotected">Unprotected</option>
            <option value="cannot be">Cannot be protected</option>
            <option value="by rule">By rule</option>
            <option value="left out">Left out on purpose</option>
            <option value="landed copy">Made from points</option>
          </select>
          <span className="self-center text-muted text-xs">{count(list.total, "machine")}</span>
        </div>
        {platforms.data && !platforms.data.length ? (
          <Empty
            action={
              <Link to="/platforms" className="font-semibold text-link">
                Add a platform →
              </Link>
            }
          >
            Machines come from a platform. Add one first.
          </Empty>
        ) : (
          <RowTable
            label="Machines"
            columns={columns}
            list={list}
            sort={by.sort}
            onSort={(sort) => set({ sort })}
            nameOf={(m) => m.name}
            bulk={
              may.administer
                ? (chosen) => {
                    const able = chosen.filter((m) => !m.group && !m.barrier && !m.leftOut);
                    const free = chosen.filter((m) => !m.group && !m.leftOut);
                    const left = chosen.filter((m) => m.leftOut);
                    const platform = new Set(able.map((m) => m.platform));
                    return (
                      <>
                        <Button
                          small
                          disabled={!able.length || platform.size > 1}
                          onClick={() => go(`/groups/new?machines=${able.map((m) => m.id).join(",")}`)}
                        >
                          Protect {count(able.length, "machine")} together…
                        </Button>
                        <Button
                          small
                          disabled={!free.length}
                          onClick={() => dialog.open("leave-out", ...free.map((m) => m.id))}
                        >
                          Leave {free.length} out…
                        </Button>
                        <Button
                          small
                          disabled={!able.length}
                          onClick={() => dialog.open("survey", ...able.map((m) => m.id))}
                        >
                          Survey {able.length}…
                        </Button>
                        {left.length > 0 && (
                          <Button small onClick={() => takeBack.mutate(left.map((m) => m.id))}>
                            Take {left.length} back
                          </Button>
                        )}
                        <span className="text-muted text-xs">
                          {platform.size > 1
                            ? "They are on several platforms: a group has one."
                            : able.length < chosen.length
                              ? "The others are protected, or cannot be."
                              : ""}
                        </span>
                      </>
                    );
                  }
                : undefined
            }
            none="No machine fits."
          />
        )}
      </Card>
    </Page>
  );
}
