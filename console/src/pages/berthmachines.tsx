import { Fragment, useState } from "react";
import type { Schemas } from "../api";
import { size } from "../format";
import { Button, Card, inputLook, td, th } from "../ui";
import { type Berth, type SetBerth, said, Text, ways } from "./berthfields";

type Arrival = Schemas["BerthArrival"];
type Own = Schemas["BerthMachine"];

/** Arrivals is every machine before and after, as it is typed. */
export function Arrivals({
  b,
  set,
  v,
}: {
  b: Berth;
  set: SetBerth;
  v: { arrivals: Arrival[]; choices: Schemas["BerthChoices"]; faults: Schemas["FieldError"][] };
}) {
  const [open, setOpen] = useState<string>();
  return (
    <Card title="Machines, before and after">
      <div className="overflow-x-auto">
        <table className="w-full">
          <thead>
            <tr>
              <th className={th}>Machine</th>
              <th className={th}>At home</th>
              <th className={th}>Live</th>
              <th className={th}>In drills</th>
              <th className={th}>Size</th>
              <th className={th}>Wave</th>
              <th className={th}>
                <span className="sr-only">Actions</span>
              </th>
            </tr>
          </thead>
          <tbody>
            {v.arrivals.map((a) => (
              <Fragment key={a.id}>
                <Row
                  a={a}
                  faults={v.faults}
                  open={open === a.id}
                  toggle={() => setOpen(open === a.id ? undefined : a.id)}
                />
                {open === a.id && (
                  <tr>
                    <td colSpan={7} className="bg-still-bg px-4 py-3">
                      <Machine a={a} b={b} set={set} choices={v.choices} />
                    </td>
                  </tr>
                )}
              </Fragment>
            ))}
          </tbody>
        </table>
      </div>
    </Card>
  );
}

function Row({
  a,
  faults,
  open,
  toggle,
}: {
  a: Arrival;
  faults: Schemas["FieldError"][];
  open: boolean;
  toggle: () => void;
}) {
  const own = faults.filter((f) => f.field.startsWith(`machines.${a.machine}.`));
  const at = (i: number, kind: "live" | "drill") =>
    own.some(
      (f) =>
        f.field.startsWith(`machines.${a.machine}.cards[${i}].`) &&
        (kind === "drill") === /drill/i.test(f.field.split("].")[1] ?? ""),
    );
  return (
    <tr className="border-line border-t">
      <td className={td}>
        <span className="font-semibold">{a.machine}</span>
        <span className="block text-xs">→ {a.name.value}</span>
        <span className="block text-muted text-xs">drill {a.drillName.value}</span>
      </td>
      <td className={td}>
        {a.cards.map((c) => (
          <div key={c.mac} className="min-h-9">
            {c.network}
            <span className="block text-muted text-xs">{c.address || "address not known"}</span>
          </div>
        ))}
        {!a.cards.length && <span className="text-muted text-xs">no card is known</span>}
      </td>
      {(["live", "drill"] as const).map((kind) => (
        <td key={kind} className={td}>
          {a.cards.map((c, i) => (
            <Attached key={c.mac} x={c[kind]} home={c.address} bad={at(i, kind)} />
          ))}
        </td>
      ))}
      <td className={`${td} whitespace-nowrap`}>
        {a.cpus} × {size(a.memoryBytes)}
        {(a.drillCpus !== a.cpus || a.drillMemoryBytes !== a.memoryBytes) && (
          <span className="block text-muted text-xs">
            drill {a.drillCpus} × {size(a.drillMemoryBytes)}
          </span>
        )}
      </td>
      <td className={td}>{a.wave}</td>
      <td className={td}>
        <Button small aria-expanded={open} aria-label={`${open ? "Close" : "Set…"} ${a.machine}`} onClick={toggle}>
          {open ? "Close" : "Set…"}
        </Button>
      </td>
    </tr>
  );
}

function Attached({ x, home, bad }: { x: Schemas["BerthAttached"]; home: string; bad: boolean }) {
  if (!x.network.value) return <div className="min-h-9 text-tight-ink text-xs">◆ not connected: nothing is said</div>;
  if (x.network.value === "none") return <div className="min-h-9 text-muted text-xs">not connected</div>;
  const same = x.address.split("/")[0] === home;
  return (
    <div className={`min-h-9 ${bad ? "text-over-ink" : ""}`} title={x.from}>
      {bad && "✕ "}
      {x.network.value}
      <span className={`block text-xs ${bad ? "" : "text-muted"}`}>
        {x.address
          ? `${x.address}${same ? " (as at home)" : ""}${x.gateway ? ` by ${x.gateway}` : ""}`
          : "address not known"}
      </span>
    </div>
  );
}

/** Machine is what is said of one machine and its cards. */
function Machine({ a, b, set, choices }: { a: Arrival; b: Berth; set: SetBerth; choices: Schemas["BerthChoices"] }) {
  const all = b.machines ?? [];
  const own: Own = all.find((m) => m.machine.toLowerCase() === a.machine.toLowerCase() || m.machine === a.id) ?? {
    machine: a.machine,
  };
  const put = (next: Own) => {
    const rest = all.filter((m) => m !== own);
    set?.(said(b, "machines", Object.keys(next).length > 1 ? [...rest, next] : rest));
  };
  const text = (key: keyof Own) => set && ((x: string) => put(said(own, key, x)));
  const number = (key: keyof Own, by = 1) =>
    set && ((x: string) => put(said(own, key, Math.round(Number(x.replace(/[^\d.]/g, "")) * by))));
  const card = (i: number) =>
    own.cards?.find((c) => c.card === String(i + 1) || c.card.toLowerCase() === a.cards[i]?.mac.toLowerCase()) ?? {
      card: String(i + 1),
    };
  const putCard = (i: number, key: string, x: string) => {
    const was = card(i);
    const next = said(was, key as keyof typeof was, x);
    const rest = (own.cards ?? []).filter((c) => c !== was);
    put(said(own, "cards", Object.keys(next).length > 1 ? [...rest, next] : rest));
  };
  const select = (
    label: string,
    value: string | undefined,
    options: { value: string; text: string }[],
    act: ((x: string) => void) | undefined,
    empty = "as for the others",
  ) => (
    <label className="grid gap-1">
      <span className="font-medium">{label}</span>
      <select className={inputLook} disabled={!act} value={value ?? ""} onChange={(e) => act?.(e.target.value)}>
        <option value="">{empty}</option>
        {options.map((o) => (
          <option key={o.value} value={o.value}>
            {o.text}
          </option>
        ))}
      </select>
    </label>
  );
  const names = (xs: string[]) => xs.map((x) => ({ value: x, text: x }));
  const networks = [{ value: "none", text: "not connected" }, ...names(choices.networks.map((n) => n.name))];
  return (
    <div className="grid gap-3">
      <div className="grid gap-3 sm:grid-cols-3 lg:grid-cols-4">
        <Text label="Wave" number value={own.wave} placeholder="1" set={number("wave")} />
        <Text label="Name" value={own.name} placeholder={a.name.value} set={text("name")} />
        <Text label="Processors" number value={own.cpus} placeholder={String(a.cpus)} set={number("cpus")} />
        <Text
          label="Memory, MiB"
          number
          value={own.memoryBytes ? own.memoryBytes / 2 ** 20 : undefined}
          placeholder={String(Math.round(a.memoryBytes / 2 ** 20))}
          set={number("memoryBytes", 2 ** 20)}
        />
        {select("Pool or host", own.pool, names(choices.pools), text("pool"))}
        {select("Datastore", own.datastore, names(choices.datastores), text("datastore"))}
        {select(
          "How an address gets in",
          own.way,
          choices.ways.map((w) => ({ value: w, text: ways[w] ?? w })),
          text("way"),
        )}
        {select("Disk format", own.format, names(choices.formats), text("format"))}
        {select("Command before the start", own.before, names(choices.commands), text("before"))}
        <Text label="Command after the start" value={own.after} set={text("after")} />
      </div>
      {a.cards.map((c, i) => (
        <fieldset key={c.mac} className="grid gap-3 border-line border-t pt-2 sm:grid-cols-3 lg:grid-cols-6">
          <legend className="font-semibold text-xs">
            Card {i + 1}, {c.network} <span className="font-normal text-muted">{c.mac}</span>
          </legend>
          {select("Live", card(i).live, networks, set && ((x) => putCard(i, "live", x)), "as its network")}
          {select("In drills", card(i).drill, networks, set && ((x) => putCard(i, "drill", x)), "as its network")}
          <Text
            label="Address"
            value={card(i).address}
            placeholder={c.live.address || "rule"}
            hint="or keep, dhcp"
            set={set && ((x) => putCard(i, "address", x))}
          />
          <Text
            label="Gateway"
            value={card(i).gateway}
            placeholder={c.live.gateway || "none"}
            hint="or none"
            set={set && ((x) => putCard(i, "gateway", x))}
          />
          <Text
            label="Address in drills"
            value={card(i).drillAddress}
            placeholder={c.drill.address}
            hint="if it is another"
            set={set && ((x) => putCard(i, "drillAddress", x))}
          />
          <Text
            label="Gateway in drills"
            value={card(i).drillGateway}
            placeholder={c.drill.gateway}
            hint="if it is another"
            set={set && ((x) => putCard(i, "drillGateway", x))}
          />
        </fieldset>
      ))}
    </div>
  );
}
