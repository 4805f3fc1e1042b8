import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Link } from "react-router";
import { useDialog } from "../address";
import { api, ask, type Schemas } from "../api";
import { useMay } from "../asks";
import { ConfirmDialog } from "../dialog";
import { count, rate, size } from "../format";
import { Button, Card, Fault, Health, State, When } from "../ui";
import { compressions, LinkDialog } from "./linkdialog";

const limit = (n: number) => (n ? `${size(n)}/s` : "none");

/** Steps shows a connection test. */
export function Steps({ t }: { t: Schemas["ConnectionTest"] }) {
  return (
    <ol className="grid gap-1 text-xs">
      {t.steps.map((s) => (
        <li key={s.name} className="grid grid-cols-[18px_80px_minmax(0,1fr)]">
          <span aria-hidden="true" className={s.ok ? "text-good-ink" : s.tried ? "text-over-ink" : "text-muted"}>
            {s.ok ? "✓" : s.tried ? "✕" : "·"}
          </span>
          <span className="text-muted">{s.name}</span>
          <span>
            {s.tried ? s.note : "not tried"} {!s.ok && s.mend}
          </span>
        </li>
      ))}
    </ol>
  );
}

/** LinkCard is a link with all that is known and set of it. */
export function LinkCard({ l }: { l: Schemas["Link"] }) {
  const qc = useQueryClient();
  const test = useMutation({ mutationFn: () => ask(api.POST("/links/{id}/test", { params: { path: { id: l.id } } })) });
  const dialog = useDialog<"link" | "unlink">();
  const may = useMay();
  const mine = dialog.ids[0] === l.id ? dialog.name : "";
  return (
    <Card title={`Link to ${l.peer}`} aside={<State of={l.health?.word ?? (l.up ? "up" : "down")} />}>
      <div className="grid gap-3 px-4 py-3">
        {l.health?.cause && <Health of={l.health} />}
        <dl className="grid grid-cols-2 gap-x-4 gap-y-1 sm:grid-cols-4">
          <div>
            <dt className="text-muted text-xs">Round trip</dt>
            <dd className="font-semibold">{l.rttMillis === undefined ? "—" : `${l.rttMillis.toFixed(2)} ms`}</dd>
          </div>
          <div>
            <dt className="text-muted text-xs">Its clock</dt>
            <dd className="font-semibold">
              {l.clockAheadMillis === undefined
                ? "—"
                : `${Math.abs(l.clockAheadMillis).toFixed(2)} ms ${l.clockAheadMillis < 0 ? "behind" : "ahead"}`}
            </dd>
          </div>
          <div>
            <dt className="text-muted text-xs">Going out</dt>
            <dd className="font-semibold">
              {count(l.outGroups, "group")}
              <div className="whitespace-nowrap font-normal text-xs">{rate(l.sendBytesPerSecond)}</div>
            </dd>
          </div>
          <div>
            <dt className="text-muted text-xs">Coming in</dt>
            <dd className="font-semibold">
              {count(l.inGroups, "group")}
              <div className="whitespace-nowrap font-normal text-xs">{rate(l.receiveBytesPerSecond)}</div>
            </dd>
          </div>
        </dl>
        <dl className="grid grid-cols-[110px_minmax(0,1fr)] gap-x-4 gap-y-0.5">
          <dt className="text-muted">Compression</dt>
          <dd>{compressions.find(([c]) => c === l.compression)?.[1] ?? l.compression}</dd>
          <dt className="text-muted">Limit</dt>
          <dd>
            {limit(l.limitBytesPerSecond)}
            {l.windows.map((w) => (
              <div key={`${w.days} ${w.from} ${w.to}`}>
                {w.days} {w.from}–{w.to}: {limit(w.bytesPerSecond)}
              </div>
            ))}
            {l.windows.length > 0 && <div className="text-muted text-xs">now: {limit(l.limitNowBytesPerSecond)}</div>}
          </dd>
        </dl>
        <div className="text-muted text-xs">
          {l.address} · seen <When at={l.seenAt} />
        </div>
        <ul className="grid gap-0.5 text-xs">
          {l.checks.map((c) => (
            <li key={c.name}>
              <span className={c.ok ? "text-good-ink" : "text-over-ink"}>{c.ok ? "✓" : "✕"}</span> {c.name}{" "}
              <span className="text-muted">
                · {c.note} {c.mend}
              </span>
            </li>
          ))}
        </ul>
        {test.data && <Steps t={test.data} />}
        <Fault of={test.error} />
        {may.operate && (
          <div className="flex flex-wrap items-center gap-2">
            <Button disabled={test.isPending} onClick={() => test.mutate()}>
              Test step by step
            </Button>
            <Link
              to={`/berths/link/${l.id}`}
              className="rounded-md border border-line bg-card px-3 py-1.5 font-semibold text-[13px] hover:border-muted"
            >
              How machines arrive
            </Link>
            {may.administer && (
              <>
                <Button onClick={() => dialog.open("link", l.id)}>Limit and compression…</Button>
                <Button kind="danger" onClick={() => dialog.open("unlink", l.id)}>
                  Remove…
                </Button>
              </>
            )}
          </div>
        )}
      </div>
      {mine === "link" && <LinkDialog l={l} onClose={dialog.close} />}
      {mine === "unlink" && (
        <ConfirmDialog
          title={`Remove the link to ${l.peer}`}
          intro="Both sites forget each other's keys. A link that groups use cannot be removed."
          ask="the other site's name"
          name={l.peer}
          act={() => ask(api.DELETE("/links/{id}", { params: { path: { id: l.id } } }))}
          done={() => {
            qc.invalidateQueries({ queryKey: ["links"] });
            dialog.close();
          }}
          onClose={dialog.close}
          go="Remove the link"
          stay="Leave it"
        />
      )}
    </Card>
  );
}
