import { Link } from "react-router";
import type { Schemas } from "../api";
import { count, span } from "../format";
import { Card, Heads, inputLook, State, td, When } from "../ui";

type Machine = Schemas["DrillMachine"];

/** Of is what drills and failovers have in common. */
type Of = { id: string; groupName: string; home: string; machines: Machine[]; waves: Schemas["RecoveryWave"][] };

/** ranAfter says after what time all ran. */
export function ranAfter(seconds: number | undefined, result?: string) {
  if (seconds === undefined) return result === "passed" ? "a moment" : "—";
  return seconds < 1 ? "a moment" : span(seconds);
}

function machineState(m: Machine, over: boolean): string {
  if (m.lost) return "landing gone";
  if (m.missed) return "drill failed";
  if (m.checkedAt) return "drill ran";
  if (over) return "drill stopped";
  return m.startedAt ? "drill checking" : `landing ${m.state ?? "preparing"}`;
}

/** RecoveredMachines shows how the machines of a recovery stand, or stood. */
export function RecoveredMachines({ of, over, act }: { of: Of; over: boolean; act?: (m: Machine) => React.ReactNode }) {
  return (
    <Card title={count(of.machines.length, "machine")} aside="by wave">
      {of.machines.length ? (
        <div className="overflow-x-auto">
          <table className="w-full" aria-label="Machines">
            <Heads of={["Machine", "Wave", "State", "Started", "Checked", "After", "On"]} />
            <tbody>
              {of.machines.map((m) => (
                <tr key={m.name} className="border-line border-t">
                  <td className={td}>
                    {m.landing ? (
                      <Link to={`/landings?q=${encodeURIComponent(m.name)}`} className="font-semibold text-link">
                        {m.name}
                      </Link>
                    ) : (
                      <span className="font-semibold">{m.name}</span>
                    )}
                    <div className="text-muted text-xs">
                      {m.machine} at {of.home}
                    </div>
                    {[m.check, m.guest].filter(Boolean).map((t) => (
                      <div key={t} className={`text-xs ${m.missed ? "text-over-ink" : "text-muted"}`}>
                        {t}
                      </div>
                    ))}
                    {m.error && <div className="text-over-ink text-xs">✕ {m.error}</div>}
                    {act?.(m)}
                  </td>
                  <td className={td}>{m.wave}</td>
                  <td className={td}>
                    <State of={machineState(m, over)} />
                  </td>
                  <td className={td}>{m.startedAt ? <When at={m.startedAt} /> : "—"}</td>
                  <td className={td}>{m.checkedAt ? <When at={m.checkedAt} /> : "—"}</td>
                  <td className={`${td} whitespace-nowrap`}>{ranAfter(m.tookSeconds)}</td>
                  <td className={td}>{m.networks.length ? m.networks.join(", ") : "nothing"}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      ) : (
        <p className="px-4 py-3 text-muted">None of its machines is there now.</p>
      )}
      {of.waves.length > 1 && <WavesUp of={of.waves} />}
    </Card>
  );
}

/** WavesUp shows when each wave was up. */
function WavesUp({ of }: { of: Schemas["RecoveryWave"][] }) {
  return (
    <table className="w-full border-line border-t" aria-label="Waves">
      <Heads of={["Wave", "Of", "Started", "Up", "Up after", "By itself"]} />
      <tbody>
        {of.map((w) => (
          <tr key={w.wave} className="border-line border-t">
            <td className={td}>{w.wave || "before all"}</td>
            <td className={td}>{count(w.machines, "machine")}</td>
            <td className={td}>{w.startedAt ? <When at={w.startedAt} /> : "—"}</td>
            <td className={td}>{w.upAt ? <When at={w.upAt} /> : "—"}</td>
            <td className={td}>{ranAfter(w.tookSeconds)}</td>
            <td className={td}>{ranAfter(w.ownSeconds)}</td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}

/** Screens are what machines of a recovery showed when they had started. */
export function Screens({ of, at }: { of: Of; at: "drills" | "failovers" }) {
  const shown = of.machines.filter((m) => m.screen);
  if (!shown.length) return null;
  return (
    <Card title="What they showed" aside="when all had started">
      <div className="grid gap-3 p-4 sm:grid-cols-3">
        {shown.map((m) => (
          <figure key={m.name} className="grid gap-1">
            <img
              src={`/api/v1/${at}/${of.id}/screens/${encodeURIComponent(m.name)}`}
              alt={`What ${m.name} showed`}
              className="w-full rounded border border-line bg-black"
            />
            <figcaption className="text-muted text-xs">{m.name}</figcaption>
          </figure>
        ))}
      </div>
    </Card>
  );
}

/** Steps tells a recovery step by step. */
export function Steps({ of }: { of: Schemas["DrillStep"][] }) {
  return (
    <Card title="What happened">
      <ol>
        {of.map((s) => (
          <li
            key={s.at + s.text}
            className="grid grid-cols-[64px_minmax(0,1fr)] gap-x-2 border-line border-t px-4 py-1.5 text-xs first:border-t-0"
          >
            <span className="text-muted">
              <When at={s.at} />
            </span>
            <span>{s.text}</span>
          </li>
        ))}
      </ol>
    </Card>
  );
}

/** Facts are named values beside a recovery. */
export function Facts({ title, of }: { title: string; of: [string, React.ReactNode][] }) {
  return (
    <Card title={title}>
      <dl className="px-4 py-2">
        {of.map(([name, value]) => (
          <div key={name} className="grid grid-cols-[92px_minmax(0,1fr)] gap-2 py-1">
            <dt className="text-muted">{name}</dt>
            <dd className="font-medium">{value}</dd>
          </div>
        ))}
      </dl>
    </Card>
  );
}

/** EvidenceLinks fetch the evidence of a recovery that is over. */
export function EvidenceLinks({ of }: { of: { id: string; groupName: string } }) {
  return (["pdf", "json"] as const).map((f) => (
    <a
      key={f}
      href={`/api/v1/evidence/${of.id}?format=${f}`}
      download={`${of.groupName}.${f}`}
      className="rounded-md border border-line bg-card px-3 py-1.5 font-semibold text-[13px] hover:border-muted"
    >
      {f === "pdf" ? "Evidence (PDF)" : "Evidence (signed)"}
    </a>
  ));
}

/** PlannedWaves are the machines of a plan as they would start. */
export function PlannedWaves({ of }: { of: Schemas["DrillPlanMachine"][] }) {
  return (
    <ol className="grid gap-1">
      {[...new Set(of.map((m) => m.wave))].map((w) => (
        <li key={w}>
          <span className="font-semibold">Wave {w}:</span>{" "}
          {of
            .filter((m) => m.wave === w)
            .map((m) => `${m.name} (${m.networks.join(", ") || "no cards"}${m.check ? `; until it ${m.check}` : ""})`)
            .join(", ")}
        </li>
      ))}
    </ol>
  );
}

/** GroupSelect narrows a list to one group. */
export function GroupSelect(p: { of: { id: string; name: string }[]; value: string; onChange: (id: string) => void }) {
  return (
    <select
      aria-label="Group"
      className={`${inputLook} !w-auto`}
      value={p.value}
      onChange={(e) => p.onChange(e.target.value)}
    >
      <option value="">All groups</option>
      {p.of.map((g) => (
        <option key={g.id} value={g.id}>
          {g.name}
        </option>
      ))}
    </select>
  );
}
