import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useForm } from "react-hook-form";
import { Link } from "react-router";
import { api, ask, type Schemas } from "../api";
import { asks } from "../asks";
import { FormDialog } from "../dialog";
import { count, when } from "../format";
import { Card, Fault, Field, inputLook } from "../ui";

type Counts = Schemas["CoverageCounts"];

/** percent says a part of one so that 100 % means all. */
const percent = (x: number) => (x < 1 && x > 0.99 ? "over 99 %" : `${Math.floor(x * 100)} %`);

const parts: { of: keyof Counts; text: string; to: string; look: string; mark: string }[] = [
  { of: "unprotected", text: "unprotected", to: "unprotected", look: "bg-over", mark: "◆" },
  { of: "cannotBe", text: "cannot be protected", to: "cannot be", look: "bg-tight", mark: "✕" },
  { of: "byRule", text: "by rule", to: "by rule", look: "bg-water", mark: "●" },
  { of: "protected", text: "chosen by hand", to: "protected", look: "bg-deep", mark: "●" },
  { of: "leftOut", text: "left out on purpose", to: "left out", look: "bg-muted", mark: "–" },
  { of: "landed", text: "made from points", to: "landed copy", look: "bg-line", mark: "○" },
];

/** CoverageCard tells what protects the machines of this site, and what does not. */
export function CoverageCard() {
  const c = useQuery(asks.coverage);
  if (c.error) return <Fault of={c.error} />;
  const v = c.data;
  if (!v?.counts.machines) return null;
  const all = v.counts.machines;
  return (
    <Card title="Coverage" aside={<History v={v} />}>
      <div className="grid gap-3 p-4">
        <div className="flex flex-wrap items-baseline gap-x-4 gap-y-1">
          <strong className="text-2xl">{percent(v.counts.share)}</strong>
          <span className="text-muted">
            of the {count(all - v.counts.leftOut - v.counts.landed, "machine")} that are to be
          </span>
        </div>
        <div className="flex h-2.5 gap-px overflow-hidden rounded" aria-hidden>
          {parts.map((p) => (
            <span key={p.of} className={p.look} style={{ width: `${(100 * v.counts[p.of]) / all}%` }} />
          ))}
        </div>
        <ul className="flex flex-wrap gap-x-5 gap-y-1">
          {parts
            .filter((p) => v.counts[p.of] > 0)
            .map((p) => (
              <li key={p.of}>
                <span className={`mr-1.5 inline-block size-2.5 rounded-sm ${p.look}`} aria-hidden />
                <Link to={`/machines?coverage=${encodeURIComponent(p.to)}`} className="font-semibold text-link">
                  {v.counts[p.of]} {p.text}
                </Link>
              </li>
            ))}
        </ul>
        {v.rules.length > 0 && <Rules rules={v.rules} />}
        {v.peers.map((p) => (
          <p key={p.site} className="text-muted text-xs">
            {p.site} says of its own {count(p.counts.machines, "machine")}: {percent(p.counts.share)} protected,{" "}
            {p.counts.unprotected} unprotected ({when(p.at)}).
          </p>
        ))}
      </div>
    </Card>
  );
}

/** History says how the share has changed, and draws it. */
function History({ v }: { v: Schemas["Coverage"] }) {
  const h = v.history;
  const first = h[0];
  if (!first || h.length < 2) return null;
  const t0 = Date.parse(first.at);
  const span = Math.max(1, Date.parse(h[h.length - 1]?.at ?? first.at) - t0);
  const at = (x: Schemas["CoverageSample"]) => `${(100 * (Date.parse(x.at) - t0)) / span},${20 - 20 * x.counts.share}`;
  return (
    <span className="flex items-center gap-2">
      {percent(first.counts.share)} {when(first.at)}
      <svg viewBox="0 -1 100 22" className="h-4 w-24" role="img" aria-label={`Coverage since ${when(first.at)}`}>
        <polyline points={h.map(at).join(" ")} fill="none" className="stroke-water" strokeWidth="2" />
      </svg>
      {percent(v.counts.share)} now
    </span>
  );
}

function Rules({ rules }: { rules: Schemas["RuleInUse"][] }) {
  return (
    <details open={rules.some((r) => r.leavers.length)}>
      <summary className="cursor-pointer text-muted">
        {count(rules.length, "rule")}, in the order in which they are asked
      </summary>
      <ol className="mt-1 grid gap-1">
        {rules.map((r) => (
          <li key={r.group}>
            <span className="mr-2 inline-block w-10 text-right text-muted tabular-nums">{r.rule.order}</span>
            {r.rule.match} →{" "}
            <Link to={`/groups/${r.group}`} className="font-semibold text-link">
              {r.groupName}
            </Link>{" "}
            <span className="text-muted text-xs">
              {r.byRule} of its {count(r.members, "machine")}
            </span>
            {r.leavers.map((l) => (
              <div key={l.machine} className="ml-12 text-tight-ink text-xs">
                ◆ {l.name}: {l.why} It is kept until somebody decides.
              </div>
            ))}
          </li>
        ))}
      </ol>
    </details>
  );
}

/** LeaveOutDialog notes that machines are left out on purpose, and why. */
export function LeaveOutDialog({ ids, onClose }: { ids: string[]; onClose: () => void }) {
  const qc = useQueryClient();
  const all = useQuery(asks.machines);
  const names = ids.map((id) => all.data?.find((m) => m.id === id)?.name ?? id);
  const form = useForm({ defaultValues: { reason: "" } });
  return (
    <FormDialog
      title={`Leave ${ids.length === 1 ? names[0] : count(ids.length, "machine")} out on purpose`}
      intro={`${names.join(", ")}: no rule takes ${ids.length === 1 ? "it" : "them"} in, and coverage counts without ${ids.length === 1 ? "it" : "them"}.`}
      form={form}
      act={(v) => ask(api.POST("/machines/leave-out", { body: { machines: ids, reason: v.reason } }))}
      done={() => {
        qc.invalidateQueries({ queryKey: ["machines"] });
        qc.invalidateQueries({ queryKey: ["coverage"] });
        onClose();
      }}
      onClose={onClose}
      go="Leave out"
    >
      {(refusal) => (
        <Field
          label="Why"
          hint="Whoever looks later has to know, such as: made anew from a template each night."
          faults={[
            ...(refusal?.at("reason") ?? []),
            ...(refusal?.errors ?? []).filter((e) => e.field !== "reason").map((e) => e.message),
          ]}
        >
          {(i, d) => (
            <input id={i} aria-describedby={d} autoComplete="off" className={inputLook} {...form.register("reason")} />
          )}
        </Field>
      )}
    </FormDialog>
  );
}
