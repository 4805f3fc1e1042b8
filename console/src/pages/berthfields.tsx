import { useState } from "react";
import type { Schemas } from "../api";
import { count } from "../format";
import { Card, Field, inputLook, td, th } from "../ui";

export type Berth = Schemas["Berth"];
export type SetBerth = ((b: Berth) => void) | undefined;
type Choices = Schemas["BerthChoices"];
type Arrival = Schemas["BerthArrival"];

/** said gives a berth with one setting; what is empty is not said. */
export function said<T extends object>(of: T, key: keyof T, value: unknown): T {
  const next = { ...of } as Record<string, unknown>;
  if (value === "" || value === undefined || value === 0 || (Array.isArray(value) && !value.length))
    delete next[key as string];
  else next[key as string] = value;
  return next as T;
}

/** Findings are what is wrong, errors before warnings. */
export function Findings({ faults, warnings }: { faults: Schemas["FieldError"][]; warnings: Schemas["FieldError"][] }) {
  const [all, setAll] = useState(false);
  if (!faults.length && !warnings.length)
    return (
      <div className="rounded-md bg-good-bg px-3 py-2 text-good-ink">
        ● Nothing is wrong with how the machines arrive.
      </div>
    );
  const shown = all ? warnings : warnings.slice(0, Math.max(0, 6 - faults.length));
  return (
    <div
      role="status"
      className={`grid gap-1 rounded-md px-3 py-2 ${faults.length ? "bg-over-bg text-over-ink" : "bg-tight-bg text-tight-ink"}`}
    >
      <div className="font-semibold">
        {faults.length ? `✕ ${count(faults.length, "error")}` : ""}
        {faults.length && warnings.length ? ", " : ""}
        {warnings.length ? `◆ ${count(warnings.length, "warning")}` : ""}
      </div>
      {faults.map((f) => (
        <div key={f.field + f.message}>✕ {f.message}</div>
      ))}
      {shown.map((f) => (
        <div key={f.field + f.message}>◆ {f.message}</div>
      ))}
      {shown.length < warnings.length && (
        <button type="button" className="justify-self-start underline" onClick={() => setAll(true)}>
          {count(warnings.length - shown.length, "more warning")}
        </button>
      )}
    </div>
  );
}

/** counts says what counts where nothing is said. */
function counts(v: Schemas["BerthValue"] | undefined, own: string | undefined) {
  if (own || !v?.value) return undefined;
  return `${v.value}${v.from ? `, from ${v.from}` : ""}`;
}

function Choose(p: {
  label: string;
  value: string | undefined;
  options: (string | { value: string; text: string })[];
  empty: string;
  hint?: string;
  faults?: string[];
  set: ((x: string) => void) | undefined;
}) {
  const options = p.options.map((o) => (typeof o === "string" ? { value: o, text: o } : o));
  if (p.value && !options.some((o) => o.value === p.value))
    options.push({ value: p.value, text: `${p.value} (not there)` });
  return (
    <Field label={p.label} hint={p.hint} faults={p.faults}>
      {(id, note) => (
        <select
          id={id}
          aria-describedby={note}
          className={inputLook}
          disabled={!p.set}
          value={p.value ?? ""}
          onChange={(e) => p.set?.(e.target.value)}
        >
          <option value="">{p.empty}</option>
          {options.map((o) => (
            <option key={o.value} value={o.value}>
              {o.text}
            </option>
          ))}
        </select>
      )}
    </Field>
  );
}

export function Text(p: {
  label: string;
  value: string | number | undefined;
  hint?: string;
  placeholder?: string;
  faults?: string[];
  number?: boolean;
  set: ((x: string) => void) | undefined;
}) {
  return (
    <Field label={p.label} hint={p.hint} faults={p.faults}>
      {(id, note) => (
        <input
          id={id}
          aria-describedby={note}
          inputMode={p.number ? "numeric" : undefined}
          className={inputLook}
          disabled={!p.set}
          placeholder={p.placeholder}
          value={p.value ?? ""}
          onChange={(e) => p.set?.(e.target.value)}
        />
      )}
    </Field>
  );
}

export const ways: Record<string, string> = {
  leave: "leave: the guest keeps its own settings",
  dhcp: "dhcp: a reservation by MAC",
  agent: "agent: the guest's agent sets it",
  seed: "seed: a NoCloud disk for cloud-init",
};

/** Places is where machines arrive, and under which name and size. */
export function Places(p: {
  b: Berth;
  set: SetBerth;
  v: { choices: Choices; arrivals: Arrival[]; faults: Schemas["FieldError"][] };
  noPlatform?: boolean;
}) {
  const { b, v } = p;
  const first = v.arrivals[0];
  const at = (field: string) => v.faults.filter((f) => f.field === field).map((f) => f.message);
  const set = (key: keyof Berth) => p.set && ((x: unknown) => p.set?.(said(b, key, x)));
  const empty = "as the default says";
  return (
    <Card title="Where they arrive">
      <div className="grid gap-3 p-4 sm:grid-cols-2">
        {!p.noPlatform && (
          <Choose
            label="Platform"
            value={b.platform}
            options={v.choices.platforms}
            empty={empty}
            hint={counts(first?.platform, b.platform)}
            faults={at("platform")}
            set={set("platform")}
          />
        )}
        <Choose
          label="Pool or host"
          value={b.pool}
          options={v.choices.pools}
          empty={empty}
          hint={counts(first?.pool, b.pool)}
          set={set("pool")}
        />
        <Choose
          label="Datastore"
          value={b.datastore}
          options={v.choices.datastores}
          empty={empty}
          hint={counts(first?.datastore, b.datastore)}
          set={set("datastore")}
        />
        <Choose
          label="Folder"
          value={b.folder}
          options={v.choices.folders}
          empty={empty}
          hint={counts(first?.folder, b.folder)}
          set={set("folder")}
        />
        <Choose
          label="Disk format"
          value={b.format}
          options={v.choices.formats}
          empty={empty}
          hint={counts(first?.format, b.format)}
          faults={at("format")}
          set={set("format")}
        />
        <Text
          label="Names"
          value={b.name}
          placeholder="{name}"
          hint={first ? `${first.machine} becomes ${first.name.value}` : "a pattern with {name} in it"}
          faults={at("name")}
          set={set("name")}
        />
        <Text
          label="Names in drills"
          value={b.drillName}
          placeholder="{name}-drill"
          hint={first ? `${first.machine} becomes ${first.drillName.value}` : undefined}
          faults={at("drillName")}
          set={set("drillName")}
        />
        <Text
          label="Size in drills, percent"
          number
          value={b.drillPercent}
          placeholder="100"
          hint="of processors and memory"
          faults={at("drillPercent")}
          set={p.set && ((x) => p.set?.(said(b, "drillPercent", Number(x.replace(/\D/g, "")))))}
        />
        <Choose
          label="Addresses"
          value={b.address}
          options={[
            { value: "rule", text: "by the first rule that fits" },
            { value: "keep", text: "as at home" },
            { value: "dhcp", text: "whatever DHCP gives" },
          ]}
          empty={empty}
          faults={at("address")}
          set={set("address")}
        />
        <Choose
          label="How an address gets into a guest"
          value={b.way}
          options={v.choices.ways.map((w) => ({ value: w, text: ways[w] ?? w }))}
          empty={empty}
          hint={
            first
              ? `${b.way ? "" : `${first.way.value}${first.way.from ? `, from ${first.way.from}` : ""}. `}${first.wayLimit}`
              : undefined
          }
          faults={at("way")}
          set={set("way")}
        />
        <Text
          label="DNS servers"
          value={b.dns?.join(", ")}
          placeholder="10.60.4.2, 10.60.4.3"
          hint={counts(first?.dns, b.dns?.join())}
          faults={v.faults.filter((f) => f.field.startsWith("dns")).map((f) => f.message)}
          set={p.set && ((x) => p.set?.(said(b, "dns", x === "" ? [] : x.split(/[,\s]+/))))}
        />
        <Text
          label="Search domain"
          value={b.suffix}
          placeholder="mole.skerry.example"
          hint={counts(first?.suffix, b.suffix)}
          faults={at("suffix")}
          set={set("suffix")}
        />
        <Choose
          label="Command before the start"
          value={b.before}
          options={v.choices.commands}
          empty={empty}
          hint={
            v.choices.commands.length
              ? "run by the host of the recovery site"
              : "none is in the folder of commands of the recovery site's host"
          }
          faults={at("before")}
          set={set("before")}
        />
        <Text
          label="Command after the start"
          value={b.after}
          hint="run by the guest's agent"
          faults={at("after")}
          set={set("after")}
        />
      </div>
    </Card>
  );
}

/** NetworkTable says where the cards of each network at home are attached. */
export function NetworkTable(p: { b: Berth; set: SetBerth; choices: Choices; arrivals: Arrival[] }) {
  const said_ = p.b.networks ?? [];
  const homes = [...new Set([...p.choices.homeNetworks, ...said_.map((n) => n.home)])];
  const put = (home: string, key: "live" | "drill", to: string) => {
    const rest = said_.filter((n) => n.home !== home);
    const next = said(said_.find((n) => n.home === home) ?? { home }, key, to);
    p.set?.(said(p.b, "networks", next.live || next.drill ? [...rest, next] : rest));
  };
  const now = (home: string, kind: "live" | "drill") => {
    for (const a of p.arrivals)
      for (const c of a.cards) if (c.network === home && c[kind].network.value) return c[kind].network;
    return undefined;
  };
  return (
    <Card title="Networks">
      <table className="w-full">
        <thead>
          <tr>
            <th className={th}>At home</th>
            <th className={th}>Live</th>
            <th className={th}>In drills</th>
          </tr>
        </thead>
        <tbody>
          {homes.map((home) => (
            <tr key={home} className="border-line border-t">
              <td className={`${td} whitespace-nowrap font-semibold`}>{home}</td>
              {(["live", "drill"] as const).map((kind) => {
                const own = said_.find((n) => n.home === home)?.[kind] ?? "";
                const by = now(home, kind);
                const chosen = p.choices.networks.find((n) => n.name === (own || by?.value));
                return (
                  <td key={kind} className={td}>
                    <select
                      aria-label={`${home} ${kind}`}
                      className={inputLook}
                      disabled={!p.set}
                      value={own}
                      onChange={(e) => put(home, kind, e.target.value)}
                    >
                      <option value="">
                        {by && !own ? `${by.value}, as the default says` : "as the default says"}
                      </option>
                      <option value="none">not connected</option>
                      {p.choices.networks.map((n) => (
                        <option key={n.name} value={n.name}>
                          {n.name}
                        </option>
                      ))}
                      {own && own !== "none" && !p.choices.networks.some((n) => n.name === own) && (
                        <option value={own}>{own} (not there)</option>
                      )}
                    </select>
                    <span className="text-muted text-xs">{chosen?.note}</span>
                  </td>
                );
              })}
            </tr>
          ))}
          {!homes.length && (
            <tr>
              <td className={`${td} text-muted`} colSpan={3}>
                No network at home is known yet.
              </td>
            </tr>
          )}
        </tbody>
      </table>
    </Card>
  );
}

/** Rules are typed one a line, and what is wrong with each is said beside it. */
export function Rules(p: { b: Berth; set: SetBerth; faults: Schemas["FieldError"][] }) {
  return (
    <Card title="Address rules" aside="the first that is for an address counts">
      <div className="p-4">
        <Field
          label="One a line"
          hint={
            <>
              A subnet keeps the host part: <code>10.40.8.0/24 -&gt; 10.60.4.0/24 gateway 10.60.4.1</code>. A range or
              an address: <code>10.40.8.10-10.40.8.20 -&gt; 10.60.4.110/24</code>. Before it, at will: <code>live</code>{" "}
              or <code>drill</code>, <code>on NETWORK</code>, <code>vlan 120</code>.
            </>
          }
          faults={p.faults.filter((f) => f.field.startsWith("rules")).map((f) => f.message)}
        >
          {(id, note) => (
            <textarea
              id={id}
              aria-describedby={note}
              rows={Math.max(3, (p.b.rules?.length ?? 0) + 1)}
              spellCheck={false}
              className={`${inputLook} font-mono text-xs`}
              disabled={!p.set}
              value={p.b.rules?.join("\n") ?? ""}
              onChange={(e) => p.set?.(said(p.b, "rules", e.target.value === "" ? [] : e.target.value.split("\n")))}
            />
          )}
        </Field>
      </div>
    </Card>
  );
}

/** WavesCard says what has to be true before the next wave starts. */
export function WavesCard(p: { b: Berth; set: SetBerth; arrivals: Arrival[] }) {
  const numbers = [...new Set([...p.arrivals.map((a) => a.wave), ...(p.b.waves ?? []).map((w) => w.number)])].sort(
    (a, b) => a - b,
  );
  const waves = p.b.waves ?? [];
  const put = (number: number, key: "check" | "waitSeconds" | "limitSeconds", x: string | number) => {
    const next = said(waves.find((w) => w.number === number) ?? { number }, key, x);
    const rest = waves.filter((w) => w.number !== number);
    p.set?.(
      said(
        p.b,
        "waves",
        next.check || next.waitSeconds || next.limitSeconds
          ? [...rest, next].sort((a, b) => a.number - b.number)
          : rest,
      ),
    );
  };
  return (
    <Card title="Order of starts" aside="machines of one wave start together">
      <table className="w-full">
        <thead>
          <tr>
            <th className={th}>Wave</th>
            <th className={th}>Machines</th>
            <th className={th}>Before the next starts</th>
            <th className={th}>Within, seconds</th>
            <th className={th}>Then wait, seconds</th>
          </tr>
        </thead>
        <tbody>
          {numbers.map((n) => {
            const w = waves.find((x) => x.number === n);
            return (
              <tr key={n} className="border-line border-t">
                <td className={`${td} font-semibold`}>{n}</td>
                <td className={td}>
                  {p.arrivals
                    .filter((a) => a.wave === n)
                    .map((a) => a.machine)
                    .join(", ") || <span className="text-muted">none</span>}
                </td>
                <td className={td}>
                  <input
                    aria-label={`Check of wave ${n}`}
                    className={inputLook}
                    disabled={!p.set}
                    placeholder="none, agent, or port 443"
                    value={w?.check ?? ""}
                    onChange={(e) => put(n, "check", e.target.value)}
                  />
                </td>
                <td className={td}>
                  <input
                    aria-label={`Limit of the check of wave ${n}`}
                    inputMode="numeric"
                    className={`${inputLook} max-w-24`}
                    disabled={!p.set}
                    placeholder="600"
                    value={w?.limitSeconds ?? ""}
                    onChange={(e) => put(n, "limitSeconds", Number(e.target.value.replace(/\D/g, "")))}
                  />
                </td>
                <td className={td}>
                  <input
                    aria-label={`Wait after wave ${n}`}
                    inputMode="numeric"
                    className={`${inputLook} max-w-24`}
                    disabled={!p.set}
                    value={w?.waitSeconds ?? ""}
                    onChange={(e) => put(n, "waitSeconds", Number(e.target.value.replace(/\D/g, "")))}
                  />
                </td>
              </tr>
            );
          })}
        </tbody>
      </table>
      <p className="border-line border-t px-4 py-2 text-muted text-xs">
        A check that does not pass within its time is said so, and the next wave starts all the same.
      </p>
    </Card>
  );
}
