import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, ask, Problem, type Schemas } from "../api";
import { count, rate, size } from "../format";
import { Button, Card, Fault, Field, inputLook, Modal, State, When } from "../ui";

type Window = Schemas["RateWindow"];

const compressions: [string, string][] = [
  ["s2", "S2, fast"],
  ["zstd", "Zstandard, smaller and slower"],
  ["off", "off"],
];

const limit = (n: number) => (n ? `${size(n)}/s` : "none");

const mib = (n: number) => (n ? String(Math.round((n / 2 ** 20) * 100) / 100) : "");

const bytes = (text: string) => (text.trim() === "" ? 0 : Math.round(Number(text.replace(",", ".")) * 2 ** 20));

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
  const remove = useMutation({
    mutationFn: () => ask(api.DELETE("/links/{id}", { params: { path: { id: l.id } } })),
    onSuccess: () => qc.invalidateQueries({ queryKey: ["links"] }),
  });
  const [sure, setSure] = useState(false);
  const [edit, setEdit] = useState(false);
  return (
    <Card title={`Link to ${l.peer}`} aside={<State of={l.up ? "up" : "down"} />}>
      <div className="grid gap-3 px-4 py-3">
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
        <Fault of={test.error ?? remove.error} />
        <div className="flex flex-wrap items-center gap-2">
          <Button disabled={test.isPending} onClick={() => test.mutate()}>
            Test step by step
          </Button>
          <Button onClick={() => setEdit(true)}>Limit and compression…</Button>
          <Button kind="danger" onClick={() => setSure(true)}>
            Remove…
          </Button>
        </div>
      </div>
      {edit && <LinkDialog l={l} onClose={() => setEdit(false)} />}
      {sure && (
        <Modal
          open
          onOpenChange={setSure}
          title={`Remove the link to ${l.peer}`}
          intro="Both sites forget each other's keys. A link that groups use cannot be removed."
        >
          <Fault of={remove.error} />
          <div className="flex justify-end gap-2">
            <Button onClick={() => setSure(false)}>Leave it</Button>
            <Button kind="danger" onClick={() => remove.mutate()}>
              Remove the link
            </Button>
          </div>
        </Modal>
      )}
    </Card>
  );
}

/** LinkDialog changes how what this site sends over a link is compressed and limited. */
function LinkDialog({ l, onClose }: { l: Schemas["Link"]; onClose: () => void }) {
  const qc = useQueryClient();
  const [compression, setCompression] = useState(l.compression);
  const [most, setMost] = useState(mib(l.limitBytesPerSecond));
  const [windows, setWindows] = useState(l.windows.map((w, n) => ({ ...w, rate: mib(w.bytesPerSecond), key: n })));
  const save = useMutation({
    mutationFn: () =>
      ask(
        api.PATCH("/links/{id}", {
          params: { path: { id: l.id } },
          body: {
            compression,
            limitBytesPerSecond: bytes(most),
            windows: windows.map(
              (w): Window => ({ days: w.days, from: w.from, to: w.to, bytesPerSecond: bytes(w.rate) }),
            ),
          },
        }),
      ),
    onSuccess: () => {
      void qc.invalidateQueries({ queryKey: ["links"] });
      onClose();
    },
  });
  const problem = save.error instanceof Problem ? save.error : undefined;
  const change = (key: number, what: Partial<Window & { rate: string }>) =>
    setWindows(windows.map((w) => (w.key === key ? { ...w, ...what } : w)));
  return (
    <Modal
      open
      onOpenChange={(o) => !o && onClose()}
      title={`Limit and compression towards ${l.peer}`}
      intro={`For what this site sends. It holds at once; ${l.peer} decides for its own direction.`}
    >
      <form
        className="grid gap-3"
        onSubmit={(e) => {
          e.preventDefault();
          save.mutate();
        }}
      >
        <div className="grid gap-3 sm:grid-cols-2">
          <Field
            label="Compression"
            faults={problem?.at("compression")}
            hint="Points are kept as they are sent. What does not shrink is sent as it is."
          >
            {(i, d) => (
              <select
                id={i}
                aria-describedby={d}
                className={inputLook}
                value={compression}
                onChange={(e) => setCompression(e.target.value)}
              >
                {compressions.map(([value, text]) => (
                  <option key={value} value={value}>
                    {text}
                  </option>
                ))}
              </select>
            )}
          </Field>
          <Field
            label="Limit, MiB a second"
            faults={problem?.at("limitBytesPerSecond")}
            hint="Empty for none. Groups share it by their priority, 4 to 2 to 1."
          >
            {(i, d) => (
              <input
                id={i}
                aria-describedby={d}
                inputMode="decimal"
                pattern="[0-9]*[.,]?[0-9]*"
                className={inputLook}
                value={most}
                onChange={(e) => setMost(e.target.value)}
              />
            )}
          </Field>
        </div>
        <fieldset className="grid gap-1.5">
          <legend className="mb-1 font-medium">Times of the week with another limit</legend>
          {windows.map((w, n) => (
            <div key={w.key} className="grid grid-cols-[minmax(0,1fr)_72px_72px_88px_auto] items-center gap-1.5">
              {(["days", "from", "to", "rate"] as const).map((k) => (
                <input
                  key={k}
                  aria-label={`${{ days: "Days", from: "From", to: "To", rate: "MiB a second" }[k]} of time ${n + 1}`}
                  placeholder={{ days: "mon-fri", from: "08:00", to: "18:00", rate: "no limit" }[k]}
                  className={inputLook}
                  value={w[k]}
                  onChange={(e) => change(w.key, { [k]: e.target.value })}
                />
              ))}
              <Button onClick={() => setWindows(windows.filter((x) => x.key !== w.key))}>Remove</Button>
            </div>
          ))}
          <div className="flex items-center gap-3">
            <Button
              onClick={() =>
                setWindows([
                  ...windows,
                  {
                    days: "mon-fri",
                    from: "08:00",
                    to: "18:00",
                    bytesPerSecond: 0,
                    rate: "5",
                    key: Math.max(-1, ...windows.map((w) => w.key)) + 1,
                  },
                ])
              }
            >
              Add a time
            </Button>
            <span className="text-muted text-xs">
              Days, from, to, MiB a second, by this site's clock. The first that holds counts.
            </span>
          </div>
          {problem?.at("windows")?.map((f) => (
            <div key={f} className="text-over-ink text-xs">
              ✕ {f}
            </div>
          ))}
        </fieldset>
        <Fault of={save.error} />
        <div className="flex justify-end gap-2">
          <Button onClick={onClose}>Leave it</Button>
          <Button kind="main" type="submit" disabled={save.isPending}>
            Save
          </Button>
        </div>
      </form>
    </Modal>
  );
}
