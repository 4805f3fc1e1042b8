import { keepPreviousData, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useSearchParams } from "react-router";
import { api, ask, type Point, type Schemas } from "../api";
import { asks } from "../asks";
import { count, rate, size, span, when } from "../format";
import { Bar, Button, Card, Empty, Fault, Field, inputLook, Modal, Page, RowMenu, td, th, When } from "../ui";
import { PinDialog } from "./holding";
import { LandDialog } from "./landings";

export function PointsPage() {
  const [params, setParams] = useSearchParams();
  const group = params.get("group") ?? "";
  const qc = useQueryClient();
  const [limit, setLimit] = useState(50);
  const groups = useQuery(asks.groups);
  const q = useQuery({
    queryKey: ["points", group, limit],
    queryFn: async () => {
      const r = await api.GET("/points", { params: { query: { group: group || undefined, limit } } });
      return { points: await ask(Promise.resolve(r)), total: Number(r.response.headers.get("X-Total-Count")) };
    },
    refetchInterval: 15_000,
    placeholderData: keepPreviousData,
  });
  const [exporting, setExporting] = useState<Point>();
  const [deleting, setDeleting] = useState<Point>();
  const [landing, setLanding] = useState<Point>();
  const again = () => {
    qc.invalidateQueries({ queryKey: ["points"] });
    qc.invalidateQueries({ queryKey: ["served"] });
  };
  const unpin = useMutation({
    mutationFn: (p: Point) =>
      ask(api.PATCH("/points/{id}", { params: { path: { id: p.id } }, body: { pinned: false } })),
    onSuccess: again,
  });
  const [serving, setServing] = useState<Point>();
  const [pinning, setPinning] = useState<Point>();
  return (
    <Page title="Recovery points">
      <Fault of={q.error ?? unpin.error} />
      <ServedCard />
      <OperationsCard />
      <Card
        title={
          <select
            aria-label="Group"
            className={`${inputLook} !w-auto font-normal`}
            value={group}
            onChange={(e) => setParams(e.target.value ? { group: e.target.value } : {})}
          >
            <option value="">All groups</option>
            {groups.data?.map((g) => (
              <option key={g.id} value={g.id}>
                {g.name} ({g.home} → {g.recovery})
              </option>
            ))}
          </select>
        }
        aside={q.data && count(q.data.total, "point")}
      >
        {q.data && !q.data.total ? (
          <Empty>No point yet. The first one is sealed when a group's first copy is done.</Empty>
        ) : (
          <div className="overflow-x-auto">
            <table className="w-full">
              <thead>
                <tr>
                  <th className={th}>Point</th>
                  <th className={th}>Captured</th>
                  <th className={`${th} text-right`}>Would lose</th>
                  <th className={`${th} text-right`}>Changed</th>
                  <th className={`${th} hidden text-right 2xl:table-cell`}>Whole</th>
                  <th className={th}>Consistent</th>
                  <th className={th}>Held</th>
                  <th className={th}>
                    <span className="sr-only">Actions</span>
                  </th>
                </tr>
              </thead>
              <tbody>
                {q.data?.points.map((p) => (
                  <tr key={p.id} className="border-line border-t">
                    <td className={`${td} whitespace-nowrap`}>
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
                      {p.lostBytes > 0 && (
                        <div className="text-over-ink text-xs" title="The page Point store lists what.">
                          ✕ {size(p.lostBytes)} cannot be read
                        </div>
                      )}
                      {p.newest && <span className="ml-1.5 text-muted text-xs">newest</span>}
                    </td>
                    <td className={`${td} whitespace-nowrap`}>
                      <When at={p.captureAt} />
                    </td>
                    <td className={`${td} whitespace-nowrap text-right`}>{span(p.losesSeconds)}</td>
                    <td className={`${td} whitespace-nowrap text-right`}>{size(p.changedBytes)}</td>
                    <td className={`${td} hidden whitespace-nowrap text-right 2xl:table-cell`}>{size(p.usedBytes)}</td>
                    <td className={td}>
                      {p.consistency === "application" ? "▲ application" : "crash"}
                      {!p.oneInstant && <div className="text-tight-ink text-xs">◆ each at its own instant</div>}
                    </td>
                    <td className={`${td} whitespace-nowrap`}>{p.held ? "here" : "other site"}</td>
                    <td className={`${td} whitespace-nowrap text-right`}>
                      {p.held && (
                        <span className="inline-flex gap-1">
                          <Button small onClick={() => setLanding(p)}>
                            Start…
                          </Button>
                          <RowMenu
                            of={`point ${p.number}`}
                            items={[
                              {
                                text: p.pinned ? "Unpin" : "Pin…",
                                act: () => (p.pinned ? unpin.mutate(p) : setPinning(p)),
                              },
                              { text: "Serve…", act: () => setServing(p) },
                              { text: "Export…", act: () => setExporting(p) },
                              {
                                text: "Delete…",
                                act: () => setDeleting(p),
                                why: p.pinned ? "Unpin it first." : p.inUse ? "It is in use." : undefined,
                              },
                            ]}
                          />
                        </span>
                      )}
                    </td>
                  </tr>
                ))}
              </tbody>
            </table>
            {q.data && q.data.total > limit && (
              <div className="border-line border-t p-3">
                <Button onClick={() => setLimit(limit + 100)}>Show {Math.min(100, q.data.total - limit)} more</Button>
              </div>
            )}
          </div>
        )}
      </Card>
      {pinning && <PinDialog p={pinning} onClose={() => setPinning(undefined)} />}
      {serving && <ServeDialog p={serving} onClose={() => setServing(undefined)} />}
      {exporting && <ExportDialog p={exporting} onClose={() => setExporting(undefined)} />}
      {landing && <LandDialog p={landing} onClose={() => setLanding(undefined)} />}
      {deleting && <DeleteDialog p={deleting} onClose={() => setDeleting(undefined)} />}
    </Page>
  );
}

const modes: Record<string, string> = {
  "read-only": "Clients can only read.",
  "throw-away": "Clients can write; what they write is kept until you stop serving, or this site restarts.",
  lasting: "Clients can write; what they write is kept until you stop serving, over restarts too.",
};

function ServeDialog({ p, onClose }: { p: Point; onClose: () => void }) {
  const qc = useQueryClient();
  const [mode, setMode] = useState("read-only");
  const m = useMutation({
    mutationFn: () => ask(api.POST("/served", { body: { point: p.id, mode } })),
    onSuccess: () => {
      qc.invalidateQueries({ queryKey: ["points"] });
      qc.invalidateQueries({ queryKey: ["served"] });
      onClose();
    },
  });
  return (
    <Modal
      open
      onOpenChange={(o) => !o && onClose()}
      title={`Serve point ${p.number} of ${p.groupName}`}
      intro="Its disks are offered over NBD, under addresses that hold a secret. The point itself never changes: what clients write is kept beside it."
    >
      <fieldset className="grid gap-2">
        <legend className="mb-1 font-medium">May clients write?</legend>
        {Object.entries(modes).map(([name, text]) => (
          <label key={name} className="flex items-start gap-2">
            <input type="radio" name="mode" className="mt-1" checked={mode === name} onChange={() => setMode(name)} />
            <span>
              {name}
              <span className="block text-muted text-xs">{text}</span>
            </span>
          </label>
        ))}
      </fieldset>
      <Fault of={m.error} />
      <div className="flex justify-end gap-2">
        <Button onClick={onClose}>Leave it</Button>
        <Button kind="main" disabled={m.isPending} onClick={() => m.mutate()}>
          Serve
        </Button>
      </div>
    </Modal>
  );
}

function ServedCard() {
  const qc = useQueryClient();
  const q = useQuery(asks.served);
  const stop = useMutation({
    mutationFn: (s: Schemas["Served"]) => ask(api.DELETE("/served/{id}", { params: { path: { id: s.id } } })),
    onSuccess: () => {
      qc.invalidateQueries({ queryKey: ["served"] });
      qc.invalidateQueries({ queryKey: ["points"] });
    },
  });
  if (!q.data?.length) return null;
  return (
    <Card title="Served over NBD">
      <Fault of={stop.error} />
      <ul>
        {q.data.map((s) => (
          <li key={s.id} className="grid gap-1 border-line border-t px-4 py-3 first:border-t-0">
            <div className="flex items-center justify-between gap-2">
              <span>
                <strong>
                  {s.groupName} {s.pointNumber}
                </strong>{" "}
                <span className="text-muted">
                  · {s.mode}
                  {s.writtenBytes > 0 && `, ${size(s.writtenBytes)} written`} · {count(s.clients, "client")} · by{" "}
                  {s.createdBy} since {when(s.createdAt)}
                </span>
              </span>
              <Button onClick={() => stop.mutate(s)}>Stop serving</Button>
            </div>
            {s.disks.map((d) => (
              <div key={d.uri} className="flex flex-wrap gap-x-3 text-xs">
                <span className="w-36">
                  {d.machine} {d.disk}
                </span>
                <code className="select-all break-all">{d.uri}</code>
                <span className="text-muted">{size(d.sizeBytes)}</span>
              </div>
            ))}
          </li>
        ))}
      </ul>
    </Card>
  );
}

function OperationsCard() {
  const qc = useQueryClient();
  const stop = useMutation({
    mutationFn: (id: string) => ask(api.DELETE("/operations/{id}", { params: { path: { id } } })),
    onSettled: () => qc.invalidateQueries({ queryKey: ["operations"] }),
  });
  const q = useQuery({
    queryKey: ["operations"],
    queryFn: () => ask(api.GET("/operations", { params: { query: { limit: 5 } } })),
    refetchInterval: 3000,
  });
  const recent = q.data?.filter((o) => o.state === "running" || Date.now() - Date.parse(o.startedAt) < 900_000);
  if (!recent?.length) return null;
  return (
    <Card title="Long work">
      <ul>
        {recent.map((o) => (
          <li key={o.id} className="grid gap-1 border-line border-t px-4 py-2.5 first:border-t-0">
            <div className="flex items-center justify-between gap-2">
              <span>
                <strong>{o.kind}</strong> of {o.subject} · {o.state}{" "}
                <span className="text-muted">· by {o.startedBy}</span>
              </span>
              {o.state === "running" && <Button onClick={() => stop.mutate(o.id)}>Stop</Button>}
            </div>
            {o.state === "running" ? (
              <>
                <Bar share={o.totalBytes ? o.doneBytes / o.totalBytes : 0} label={o.kind} />
                <div className="text-muted text-xs">
                  {size(o.doneBytes)} of {size(o.totalBytes)} · {rate(o.bytesPerSecond)}
                  {o.finishAt && ` · done about ${when(o.finishAt)}`}
                </div>
              </>
            ) : (
              <div className={`text-xs ${o.state === "failed" ? "text-over-ink" : "text-muted"}`}>{o.message}</div>
            )}
          </li>
        ))}
      </ul>
    </Card>
  );
}

function ExportDialog({ p, onClose }: { p: Point; onClose: () => void }) {
  const qc = useQueryClient();
  const [directory, setDirectory] = useState(`/var/tmp/${p.groupName.toLowerCase().replace(/\W+/g, "-")}-${p.number}`);
  const [format, setFormat] = useState("raw");
  const m = useMutation({
    mutationFn: () =>
      ask(api.POST("/points/{id}/export", { params: { path: { id: p.id } }, body: { directory, format } })),
    onSuccess: () => {
      qc.invalidateQueries({ queryKey: ["operations"] });
      onClose();
    },
  });
  const disks = p.machines.flatMap((x) => x.disks);
  return (
    <Modal
      open
      onOpenChange={(o) => !o && onClose()}
      title={`Export ${p.groupName} ${p.number}`}
      intro={`${count(disks.length, "disk")} of ${size(disks.reduce((s, d) => s + d.sizeBytes, 0))}, without zero areas: ${size(p.usedBytes)} on disk. Every block is checked. Nothing is overwritten.`}
    >
      <Field label="Folder on this site's host">
        {(id) => (
          <input id={id} className={inputLook} value={directory} onChange={(e) => setDirectory(e.target.value)} />
        )}
      </Field>
      <Field label="Format">
        {(id) => (
          <select id={id} className={inputLook} value={format} onChange={(e) => setFormat(e.target.value)}>
            <option value="raw">raw</option>
            <option value="qcow2">qcow2</option>
          </select>
        )}
      </Field>
      <Fault of={m.error} />
      <div className="flex justify-end gap-2">
        <Button onClick={onClose}>Not now</Button>
        <Button kind="main" disabled={m.isPending} onClick={() => m.mutate()}>
          Export
        </Button>
      </div>
    </Modal>
  );
}

function DeleteDialog({ p, onClose }: { p: Point; onClose: () => void }) {
  const qc = useQueryClient();
  const [name, setName] = useState("");
  const m = useMutation({
    mutationFn: () => ask(api.DELETE("/points/{id}", { params: { path: { id: p.id } } })),
    onSuccess: () => {
      qc.invalidateQueries({ queryKey: ["points"] });
      onClose();
    },
  });
  return (
    <Modal
      open
      onOpenChange={(o) => !o && onClose()}
      title={`Delete point ${p.number} of ${p.groupName}`}
      intro={`The state of ${when(p.captureAt)} cannot be brought back afterwards. No other point is touched.`}
    >
      <Field label={`To go on, type the group's name: ${p.groupName}`}>
        {(id) => <input id={id} className={inputLook} value={name} onChange={(e) => setName(e.target.value)} />}
      </Field>
      <Fault of={m.error} />
      <div className="flex justify-end gap-2">
        <Button onClick={onClose}>Leave it as it is</Button>
        <Button kind="danger" disabled={name !== p.groupName || m.isPending} onClick={() => m.mutate()}>
          Delete the point
        </Button>
      </div>
    </Modal>
  );
}
