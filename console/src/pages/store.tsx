import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { useForm } from "react-hook-form";
import { Link } from "react-router";
import { api, ask, Problem, type Schemas } from "../api";
import { asks, useMay } from "../asks";
import { count, size, span, when } from "../format";
import { Button, Card, Fault, Field, Health, inputLook, Listed, Page, When } from "../ui";
import { Course } from "./course";
import { SpaceCards } from "./space";

export function StorePage() {
  return (
    <Page title="Point store">
      <div className="grid items-start gap-4 lg:grid-cols-2">
        <div className="grid gap-4">
          <StoreCard />
          <Course of={{ kind: "store" }} />
        </div>
        <div className="grid gap-4">
          <SpaceCards />
          <LongTermCard />
          <CopiesCard />
        </div>
      </div>
    </Page>
  );
}

/** StoreCard tells what the site's point store holds, and in what state. */
function StoreCard() {
  const { data: store } = useQuery(asks.store);
  const may = useMay();
  if (!store) return null;
  return (
    <Card title="Point store" aside={store.directory.split("/").slice(-2).join("/")}>
      {store.health && (
        <div className="px-4 pt-3">
          <Health of={store.health} />
        </div>
      )}
      <dl className="grid grid-cols-[140px_minmax(0,1fr)] gap-y-1 px-4 py-3">
        {store.objects && (
          <>
            <dt className="text-muted">Objects</dt>
            <dd>
              <span className="break-all">{store.objects}</span>
              <span className="block text-muted">{size(store.cacheBytes ?? 0)} of them kept here too</span>
            </dd>
          </>
        )}
        <dt className="text-muted">Points</dt>
        <dd>{store.points}</dd>
        <dt className="text-muted">Packs</dt>
        <dd>
          {store.packs} · {size(store.packBytes)}
        </dd>
        <dt className="text-muted">Room left</dt>
        <dd className={store.full ? "font-semibold text-over-ink" : ""}>
          {store.full && "✕ "}
          {size(store.freeBytes)}, of which cycles leave {size(store.floorBytes)}
          {store.full && ": they wait until there is more"}
        </dd>
        <dt className="text-muted">Bad</dt>
        <dd className={store.badRecords ? "font-semibold text-over-ink" : ""}>
          {store.badRecords ? `✕ ${count(store.badRecords, "record")}` : "nothing"}
          {store.healedRecords > 0 && `, ${store.healedRecords} replaced`}
        </dd>
        <dt className="text-muted">Encrypted</dt>
        <dd>
          {store.encryption.on ? `yes, key ${store.encryption.key}` : "no"}
          {store.encryption.staleBytes > 0 && (
            <span className="text-tight-ink">
              ; ◆ {size(store.encryption.staleBytes)} are not, or under an older key
            </span>
          )}
        </dd>
        {store.fillsAt && (
          <>
            <dt className="text-muted">Full</dt>
            <dd>
              about <When at={store.fillsAt} />, at the pace of the last day
            </dd>
          </>
        )}
        {store.lockedPoints > 0 && (
          <>
            <dt className="text-muted">Locked</dt>
            <dd>
              {count(store.lockedPoints, "point")}, the last until <When at={store.lockedUntil} />
              {store.lockedOutside && ", at the object service as well"}
            </dd>
          </>
        )}
        <dt className="text-muted">Verified</dt>
        <dd>
          <Verified v={store.verify} bytes={store.packBytes} />
        </dd>
      </dl>
      <Losses />
      {may.operate && (
        <div className="px-4 pb-3">
          <StoreWork stale={may.administer && store.encryption.staleBytes > 0} />
        </div>
      )}
    </Card>
  );
}

/** Verified tells how far a store has been read and verified. */
function Verified({ v, bytes }: { v: Schemas["VerifyPass"]; bytes: number }) {
  return (
    <>
      {v.endedAt ? (
        <>
          all that was there <When at={v.endedAt} />
          {!v.running && bytes > v.doneBytes && `; ${size(bytes - v.doneBytes)} came since`}
        </>
      ) : (
        "not yet"
      )}
      {v.running && `; now at ${size(v.doneBytes)} of ${size(bytes)}`}
      {v.everySeconds ? `; every ${span(v.everySeconds)}` : "; not by itself"}
    </>
  );
}

/** LongTermCard tells what the long-term store holds, or how to have one. */
function LongTermCard() {
  const { data: store } = useQuery(asks.store);
  if (!store) return null;
  const f = store.longTerm;
  if (!f)
    return (
      <Card title="Long-term store">
        <p className="px-4 py-3 text-muted">
          There is none, so what long-term rungs keep stays in the point store. Start the service with{" "}
          <code>--long-term-dir</code> or <code>--long-term-objects</code> to have one on other disks or in a bucket.
        </p>
      </Card>
    );
  return (
    <Card title="Long-term store" aside={f.objects ? "objects" : f.directory.split("/").slice(-2).join("/")}>
      <dl className="grid grid-cols-[140px_minmax(0,1fr)] gap-y-1 px-4 py-3">
        {f.objects && (
          <>
            <dt className="text-muted">Objects</dt>
            <dd>
              <span className="break-all">{f.objects}</span>
              <span className="block text-muted">{size(f.cacheBytes ?? 0)} of them kept here too</span>
            </dd>
          </>
        )}
        <dt className="text-muted">Points</dt>
        <dd>
          {f.points}, {f.onlyThere} of them nowhere else · {size(f.packBytes)}
        </dd>
        <dt className="text-muted">To be copied</dt>
        <dd className={f.awaiting && f.full ? "font-semibold text-over-ink" : ""}>
          {f.awaiting ? count(f.awaiting, "point") : "nothing"}
          {f.awaiting > 0 && f.full && ": it is full"}
        </dd>
        {!f.objects && (
          <>
            <dt className="text-muted">Room left</dt>
            <dd className={f.full ? "font-semibold text-over-ink" : ""}>
              {f.full && "✕ "}
              {size(f.freeBytes)}, of which {size(f.floorBytes)} stay free
            </dd>
          </>
        )}
        <dt className="text-muted">Bad</dt>
        <dd className={f.badRecords ? "font-semibold text-over-ink" : ""}>
          {f.badRecords ? `✕ ${count(f.badRecords, "record")}` : "nothing"}
        </dd>
        <dt className="text-muted">Encrypted</dt>
        <dd>{f.encrypted ? "yes" : "no"}</dd>
        <dt className="text-muted">Verified</dt>
        <dd>
          each block as it was copied; since then <Verified v={f.verify} bytes={f.packBytes} />
        </dd>
      </dl>
    </Card>
  );
}

/** Losses lists what points cannot be read; it is nothing, as a rule. A block is as a rule of many points. */
function Losses() {
  const q = useQuery(asks.losses);
  if (!q.data?.length) return null;
  const places = new Map<string, { first: Schemas["Loss"]; points: number }>();
  for (const x of q.data) {
    const key = [x.group, x.machine, x.disk, x.offsetBytes, x.lengthBytes, x.state].join(" ");
    const place = places.get(key) ?? { first: x, points: 0 };
    place.points++;
    places.set(key, place);
  }
  const all = [...places.values()];
  return (
    <div className="border-line border-t px-4 py-3">
      <h3 className="font-semibold text-over-ink">✕ Points that cannot be read whole</h3>
      <ul className="mt-1 grid gap-1.5">
        {all.slice(0, 8).map(({ first: x, points }) => (
          <li key={`${x.group} ${x.machine} ${x.disk} ${x.offsetBytes} ${x.state}`}>
            {size(x.lengthBytes)} of {x.machine} {x.disk} at {size(x.offsetBytes)}
            <span className="block text-muted text-xs">
              in{" "}
              <Link to={`/points?group=${x.group}`}>
                {count(points, "point")} of {x.groupName}
              </Link>
              {x.state === "awaited" ? " · home is asked for it with the next cycle" : " · not to be had any more"}
            </span>
          </li>
        ))}
        {all.length > 8 && <li className="text-muted">and {all.length - 8} more places: kestrel store losses</li>}
      </ul>
    </div>
  );
}

function StoreWork({ stale }: { stale: boolean }) {
  const qc = useQueryClient();
  const [id, setID] = useState<string>();
  const m = useMutation({
    mutationFn: (what: "verify" | "sweep" | "rewrite") => ask(api.POST(`/store/${what}`)),
    onSuccess: (o) => {
      setID(o.id);
      qc.invalidateQueries({ queryKey: ["operations"] });
    },
  });
  const op = useQuery({
    queryKey: ["operations", id],
    queryFn: () => ask(api.GET("/operations/{id}", { params: { path: { id: id ?? "" } } })),
    enabled: !!id,
    refetchInterval: (q) => (q.state.data?.state === "running" ? 500 : false),
  });
  const busy = m.isPending || op.data?.state === "running";
  return (
    <div className="grid justify-items-start gap-2">
      <div className="flex flex-wrap gap-2">
        <Button disabled={busy} onClick={() => m.mutate("verify")}>
          Verify every block
        </Button>
        <Button disabled={busy} onClick={() => m.mutate("sweep")}>
          Give room back now
        </Button>
        {stale && (
          <Button disabled={busy} onClick={() => m.mutate("rewrite")}>
            Encrypt the rest
          </Button>
        )}
      </div>
      <Fault of={m.error} />
      {op.data && (
        <div role="status" className={op.data.state === "failed" ? "text-over-ink" : ""}>
          {op.data.state === "running"
            ? `${size(op.data.doneBytes)} of ${size(op.data.totalBytes)} read`
            : op.data.message}
          {op.data.log.map((t) => (
            <div key={t} className="break-all text-xs">
              {t}
            </div>
          ))}
        </div>
      )}
    </div>
  );
}

/** Copies are images that were carried over by hand: a first copy ships only what is in none of them. */
function CopiesCard() {
  const qc = useQueryClient();
  const may = useMay();
  const q = useQuery(asks.copies);
  const drop = useMutation({
    mutationFn: (id: string) => ask(api.DELETE("/copies/{id}", { params: { path: { id } } })),
    onSuccess: () => qc.invalidateQueries({ queryKey: ["copies"] }),
  });
  return (
    <Card title="Carried over by hand">
      <p className="px-4 pt-3 pb-1 text-muted">
        A raw or qcow2 image on this site's host. First copies ship only what is in none of them.
      </p>
      <Listed
        items={q.data}
        button={{ text: "Give up", danger: true, busy: drop.isPending, act: (c) => drop.mutate(c.id) }}
        hidden={!may.administer}
      >
        {(c) => (
          <>
            <strong className="break-all">{c.name}</strong>{" "}
            <span className="text-muted">
              · {size(c.usedBytes)} of {size(c.sizeBytes)} used · kept until {when(c.keptUntil)}
            </span>
          </>
        )}
      </Listed>
      {q.data && !q.data.length && <p className="px-4 pb-3">None is kept.</p>}
      <div className="px-4 pb-3 empty:hidden">
        <Fault of={drop.error} />
      </div>
      {may.administer && <CarryForm />}
    </Card>
  );
}

function CarryForm() {
  const qc = useQueryClient();
  const form = useForm({ defaultValues: { path: "" } });
  const [running, setRunning] = useState<string>();
  const carry = useMutation({
    mutationFn: (body: { path: string }) => ask(api.POST("/copies", { body })),
    onSuccess: (o) => setRunning(o.id),
  });
  const refusal = carry.error instanceof Problem ? carry.error : undefined;
  const op = useQuery({
    queryKey: ["operations", running],
    queryFn: async () => {
      const o = await ask(api.GET("/operations/{id}", { params: { path: { id: running ?? "" } } }));
      if (o.state !== "running") qc.invalidateQueries({ queryKey: ["copies"] });
      return o;
    },
    enabled: !!running,
    refetchInterval: (x) => (x.state.data?.state === "running" ? 500 : false),
  });
  return (
    <form className="grid gap-2 px-4 pb-3" onSubmit={form.handleSubmit((v) => carry.mutate(v))}>
      <Field label="Image on this site's host" hint="Kept for 14 days." faults={refusal?.at("path")}>
        {(id, d) => (
          <input
            id={id}
            aria-describedby={d}
            className={inputLook}
            placeholder="/mnt/disk/tick-db.qcow2"
            {...form.register("path", { required: true })}
          />
        )}
      </Field>
      <div>
        <Button type="submit" disabled={carry.isPending || op.data?.state === "running"}>
          Take it in
        </Button>
      </div>
      <Fault of={carry.error && !refusal?.at("path").length ? carry.error : undefined} />
      {op.data && (
        <div role="status" className={op.data.state === "failed" ? "text-over-ink" : ""}>
          {op.data.state === "running"
            ? `${size(op.data.doneBytes)} of ${size(op.data.totalBytes)} read`
            : op.data.message}
        </div>
      )}
    </form>
  );
}
