import { type ReactNode, useState } from "react";
import { type UseFormReturn, useWatch } from "react-hook-form";
import { Link } from "react-router";
import type { Group, Schemas } from "../api";
import { count, size } from "../format";
import { Card, inputLook } from "../ui";
import type { Values } from "./groupform";

/** homeOf finds a group's machine among those of this site; none if its home is the other one. */
export const homeOf = (g: Group, m: Schemas["GroupMachine"], all?: Schemas["Machine"][]) =>
  all?.find((x) => x.group === g.id && x.id.endsWith(`/${m.id}`))?.id;

/** Machines to choose from: those that can be protected first, the others folded away. */
export function Machines(p: {
  form: UseFormReturn<Values>;
  of?: Group;
  machines?: Schemas["Machine"][];
  faults: string[];
  rule: ReactNode;
}) {
  const [find, setFind] = useState("");
  const chosen = useWatch({ control: p.form.control, name: "machines" });
  const toggle = (id: string) =>
    p.form.setValue("machines", chosen.includes(id) ? chosen.filter((x) => x !== id) : [...chosen, id], {
      shouldDirty: true,
    });
  const barred = (m: Schemas["Machine"]) =>
    m.barrier ? `${m.barrier} ${m.mend ?? ""}` : m.group && m.group !== p.of?.id ? `In the group ${m.groupName}.` : "";
  const fits = p.machines?.filter((m) =>
    find
      .toLowerCase()
      .split(/\s+/)
      .every((w) => `${m.name} ${m.folder} ${m.tags.join(" ")} ${m.guest}`.toLowerCase().includes(w)),
  );
  const free = fits?.filter((m) => !barred(m) || chosen.includes(m.id)) ?? [];
  const others = fits?.filter((m) => barred(m) && !chosen.includes(m.id)) ?? [];
  // Machines of the home site, where this is the other one.
  const group = p.of;
  const away = group && p.machines ? group.machines.filter((m) => !homeOf(group, m, p.machines)) : [];
  const row = (m: Schemas["Machine"]) => {
    const bar = barred(m);
    return (
      <li key={m.id}>
        <label
          className={`flex items-baseline gap-2.5 rounded px-2 py-1 ${bar ? "text-muted" : "cursor-pointer hover:bg-still-bg"}`}
        >
          <input
            type="checkbox"
            checked={chosen.includes(m.id)}
            disabled={!!bar && !chosen.includes(m.id)}
            onChange={() => toggle(m.id)}
          />
          <span className="w-36 shrink-0 truncate font-medium">{m.name}</span>
          <span className="w-36 shrink-0 truncate text-muted text-xs">{m.folder}</span>
          <span className="min-w-0 text-muted text-xs">
            {m.leftOut && `left out on purpose: ${m.leftOut.reason} · `}
            {bar || `${count(m.disks.length, "disk")} · ${size(m.disks.reduce((s, d) => s + d.usedBytes, 0))} used`}
          </span>
        </label>
      </li>
    );
  };
  return (
    <Card title="1 · Machines" aside={`${chosen.length} chosen, captured together at one instant`}>
      <div className="grid gap-2 p-4">
        {away.length > 0 && (
          <p className="text-muted">
            {away.map((m) => m.name).join(", ")} at {p.of?.home}. Machines are chosen there.
          </p>
        )}
        {!away.length && (
          <>
            <input
              aria-label="Find machines"
              className={inputLook}
              placeholder="Find by name, folder or tag"
              value={find}
              onChange={(e) => setFind(e.target.value)}
            />
            <ul className="grid max-h-64 gap-0.5 overflow-auto rounded-md border border-line p-1">
              {free.map(row)}
              {p.machines && !p.machines.length && (
                <li className="px-2 py-3 text-muted">
                  No machines yet.{" "}
                  <Link to="/platforms" className="font-semibold text-link">
                    Add a platform
                  </Link>{" "}
                  first.
                </li>
              )}
              {p.machines?.length && !free.length ? (
                <li className="px-2 py-3 text-muted">
                  {find ? "Nothing that could be protected fits." : "Every machine that can be protected is."}
                </li>
              ) : null}
            </ul>
            {others.length > 0 && (
              <details className="rounded-md border border-line px-3 py-1.5">
                <summary className="cursor-pointer text-muted">
                  {count(others.length, "machine")} protected already, or that cannot be
                </summary>
                <ul className="grid max-h-48 gap-0.5 overflow-auto">{others.map(row)}</ul>
              </details>
            )}
          </>
        )}
        {p.rule}
        {p.faults.map((t) => (
          <div key={t} className="text-over-ink text-xs">
            ✕ {t}
          </div>
        ))}
      </div>
    </Card>
  );
}
