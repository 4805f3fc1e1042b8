import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { api, ask, type Schemas } from "../api";
import { asks, useMay } from "../asks";
import { count, rate, size, when } from "../format";
import { Bar, Button, Card, Fault } from "../ui";

/** ServedCard lists the points whose disks are offered over NBD. */
export function ServedCard() {
  const may = useMay();
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
              {may.operate && <Button onClick={() => stop.mutate(s)}>Stop serving</Button>}
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

/** OperationsCard shows long work that runs, or ended a moment ago. */
export function OperationsCard() {
  const may = useMay();
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
              {o.state === "running" && may.operate && <Button onClick={() => stop.mutate(o.id)}>Stop</Button>}
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
