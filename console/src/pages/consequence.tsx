import type { ReactNode } from "react";
import type { Schemas } from "../api";
import { count, exactly, rate, size, span, when } from "../format";
import { Card } from "../ui";

/** Consequence is what comes of a promise, before it is made. */
export function Consequence({
  f,
  warnings,
  chosen,
}: {
  f?: Schemas["Forecast"];
  warnings: Schemas["FieldError"][];
  chosen: boolean;
}) {
  return (
    <Card title="What comes of it">
      {f && !f.faults.some((x) => x.field.startsWith("promise")) ? (
        <dl className="grid gap-2 p-4">
          <Out name="Next starts">
            {f.starts.length
              ? f.starts.slice(0, 4).map((t) => (
                  <div key={t.at} title={exactly(t.at)}>
                    {when(t.at)}
                    {t.note && <span className="block text-muted text-xs">{t.note}</span>}
                  </div>
                ))
              : f.promise.cadence === "back to back"
                ? "as soon as the one before has ended"
                : "only by hand"}
          </Out>
          <Out name="Points">
            {f.points || "as many as you run"}, back to {span(f.oldestSeconds)}
            <div className="text-muted text-xs">{f.pointsPerRung.join(" + ")}</div>
          </Out>
          {f.later?.map((l) => (
            <Strip key={l.afterSeconds} l={l} />
          ))}
          <Out name="Worst exposure">
            {f.worstSeconds === undefined ? "as long as nobody runs a cycle" : span(f.worstSeconds)}
            {f.worstSeconds !== undefined && (
              <div className="text-muted text-xs">
                cadence plus the length of a cycle
                {f.cycleSeconds ? `, here about ${span(Math.ceil(f.cycleSeconds))}` : ""}
              </div>
            )}
          </Out>
          <Out name="First copy">{chosen ? size(f.usedBytes) : "—"}</Out>
          <Out name="Space at most">
            {chosen ? size(f.spaceBytes) : "—"}
            <div className="text-muted text-xs">
              {f.changeBytesPerSecond
                ? `changing ${rate(f.changeBytesPerSecond)}${f.changeFrom === "survey" ? " by a survey" : ""}, before compression`
                : "what changes is not known before the first cycles"}
            </div>
          </Out>
          {warnings.map((w) => (
            <div key={w.message} className="rounded bg-tight-bg px-2.5 py-1.5 text-tight-ink text-xs">
              ◆ {w.message}
            </div>
          ))}
        </dl>
      ) : (
        <div className="p-4 text-muted">
          {f ? "This promise cannot be kept; see the note at its field." : "Fill in the promise to see it."}
        </div>
      )}
    </Card>
  );
}

function Out({ name, children }: { name: string; children: ReactNode }) {
  return (
    <div className="grid grid-cols-[110px_minmax(0,1fr)] gap-2">
      <dt className="text-muted">{name}</dt>
      <dd className="font-medium">{children}</dd>
    </div>
  );
}

/** Strip draws the points that there would be a while from now, oldest left; ages are drawn so that the newest hours can be seen too. */
function Strip({ l }: { l: Schemas["LaterPoints"] }) {
  const then = Date.now() + l.afterSeconds * 1000;
  const age = (t: string) => Math.max(60, (then - Date.parse(t)) / 1000);
  const oldest = l.oldestAt ? age(l.oldestAt) : 60;
  const x = (t: string) => 100 - (100 * Math.log(age(t) / 60)) / Math.max(0.1, Math.log(oldest / 60));
  return (
    <div className="grid grid-cols-[auto_1fr] gap-x-2 gap-y-0.5 text-xs">
      <dt className="text-muted">in {span(l.afterSeconds)}</dt>
      <dd className="text-right">
        {count(l.points, "point")}
        {l.oldestAt && <span className="text-muted"> back to {span(Math.round(oldest))}</span>}
        {l.spaceBytes > 0 && <span className="text-muted"> · {size(l.spaceBytes)}</span>}
      </dd>
      <dd className="col-span-2">
        <svg
          viewBox="0 0 100 8"
          preserveAspectRatio="none"
          className="h-4 w-full rounded bg-still-bg"
          role="img"
          aria-label={`In ${span(l.afterSeconds)}: ${count(l.points, "point")}`}
        >
          {l.marks.map((m) => (
            <line
              key={m.at}
              x1={x(m.at)}
              x2={x(m.at)}
              y1={m.exists ? 0 : 2}
              y2="8"
              vectorEffect="non-scaling-stroke"
              className={m.exists ? "stroke-ink" : "stroke-water"}
              strokeWidth={m.exists ? 1.5 : 1}
            />
          ))}
        </svg>
      </dd>
    </div>
  );
}
