import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useForm } from "react-hook-form";
import { Link, useParams } from "react-router";
import { useAddress, useDialog } from "../address";
import { api, ask, type Schemas } from "../api";
import { asks, useMay } from "../asks";
import { FormDialog } from "../dialog";
import { count, span, when } from "../format";
import { Button, Card, Empty, Fault, Field, Heads, inputLook, Page, State, td, When } from "../ui";
import { Rounds } from "./drillrounds";

type Drill = Schemas["Drill"];

const drillState = (d: Drill) => `drill ${d.state === "over" ? (d.result ?? "over") : d.state}`;

/** DrillsPage lists the drills at this site. */
export function DrillsPage() {
  const [at, set] = useAddress();
  const group = at("group");
  const groups = useQuery(asks.groups).data ?? [];
  const q = useQuery({
    queryKey: ["drills", "list", group],
    queryFn: () => ask(api.GET("/drills", { params: { query: group ? { group } : {} } })),
    refetchInterval: 5000,
  });
  const coming = groups.filter((g) => g.direction !== "out");
  return (
    <Page
      title="Drills"
      actions={
        <select
          aria-label="Group"
          className={`${inputLook} !w-auto`}
          value={group}
          onChange={(e) => set({ group: e.target.value })}
        >
          <option value="">All groups</option>
          {coming.map((g) => (
            <option key={g.id} value={g.id}>
              {g.name}
            </option>
          ))}
        </select>
      }
    >
      <Fault of={q.error} />
      <Card title="Recoveries that were tried here" aside="in isolated networks; home is left alone">
        {q.data?.length ? (
          <div className="overflow-x-auto">
            <table className="w-full" aria-label="Drills">
              <Heads of={["Group", "Began", "Point", "State", "Ran after", "RTO target", "By"]} />
              <tbody>
                {q.data.map((d) => (
                  <tr key={d.id} className="border-line border-t">
                    <td className={td}>
                      <Link to={`/drills/${d.id}`} className="font-semibold text-link">
                        {d.groupName}
                      </Link>
                    </td>
                    <td className={td}>
                      <When at={d.startedAt} />
                    </td>
                    <td className={td}>{d.pointNumber}</td>
                    <td className={td}>
                      <State of={drillState(d)} />
                    </td>
                    <td className={td}>{ranAfter(d.tookSeconds, d.result)}</td>
                    <td className={td}>{d.rtoTargetSeconds ? span(d.rtoTargetSeconds) : "—"}</td>
                    <td className={`${td} text-muted`}>{d.startedBy}</td>
                  </tr>
                ))}
              </tbody>
            </table>
          </div>
        ) : (
          q.data && (
            <Empty>
              No recovery was tried here yet. Start a drill on the page of a group that comes in: nobody knows of a
              recovery that was not tried.
            </Empty>
          )
        )}
      </Card>
      <Rounds />
    </Page>
  );
}

function ranAfter(seconds: number | undefined, result?: string) {
  if (seconds === undefined) return result === "passed" ? "a moment" : "—";
  return seconds < 1 ? "a moment" : span(seconds);
}

/** DrillPage is one drill: how it goes while it does, and what is kept of it. */
export function DrillPage() {
  const { id = "" } = useParams();
  const may = useMay();
  const dialog = useDialog<"end">();
  const q = useQuery({
    queryKey: ["drills", id],
    queryFn: () => ask(api.GET("/drills/{id}", { params: { path: { id } } })),
    refetchInterval: (x) => (x.state.data?.state === "over" ? false : 1000),
  });
  const d = q.data;
  if (q.error) return <Fault of={q.error} />;
  if (!d) return null;
  const open = d.state === "starting" || d.state === "open";
  return (
    <Page
      crumbs={
        <>
          <Link to="/drills">Drills</Link> / <Link to={`/groups/${d.group}`}>{d.groupName}</Link>
        </>
      }
      title={
        <>
          Drill of {d.groupName} <State of={drillState(d)} />
        </>
      }
      actions={
        <>
          {d.state === "over" &&
            (["pdf", "json"] as const).map((f) => (
              <a
                key={f}
                href={`/api/v1/evidence/${d.id}?format=${f}`}
                download={`${d.groupName}.${f}`}
                className="rounded-md border border-line bg-card px-3 py-1.5 font-semibold text-[13px] hover:border-muted"
              >
                {f === "pdf" ? "Evidence (PDF)" : "Evidence (signed)"}
              </a>
            ))}
          {may.operate && open && !d.endedBy && (
            <Button kind="main" onClick={() => dialog.open("end")}>
              End it…
            </Button>
          )}
        </>
      }
    >
      {(d.summary || d.error || d.why.length > 0) && (
        <p
          className={`rounded-md border px-3 py-2 ${d.error || d.result === "failed" ? "border-over bg-over-bg text-over-ink" : "border-line bg-card"}`}
        >
          {[d.summary, ...d.why, d.error].filter(Boolean).join(" ")}
        </p>
      )}
      {d.reason && (
        <p className="rounded-md border border-tight bg-tight-bg px-3 py-2 text-tight-ink">
          ◆ {d.open.join(" ")} It was insisted upon: {d.reason}
        </p>
      )}
      <div className="grid items-start gap-4 xl:grid-cols-[minmax(0,1fr)_300px]">
        <div className="grid min-w-0 gap-4">
          <Machines d={d} />
          <Screens d={d} />
        </div>
        <div className="grid gap-4">
          <Facts d={d} open={open} />
          <Card title="What happened">
            <ol>
              {d.steps.map((s) => (
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
        </div>
      </div>
      {dialog.name === "end" && <EndDialog d={d} onClose={dialog.close} />}
    </Page>
  );
}

function Machines({ d }: { d: Drill }) {
  return (
    <Card title={count(d.machines.length, "machine")} aside="by wave">
      {d.machines.length ? (
        <div className="overflow-x-auto">
          <table className="w-full" aria-label="Machines">
            <Heads of={["Machine", "Wave", "State", "Started", "Checked", "After", "On"]} />
            <tbody>
              {d.machines.map((m) => (
                <tr key={m.name} className="border-line border-t">
                  <td className={td}>
                    <span className="font-semibold">{m.name}</span>
                    <div className="text-muted text-xs">
                      {m.machine} at {d.home}
                    </div>
                    {[m.check, m.guest].filter(Boolean).map((t) => (
                      <div key={t} className={`text-xs ${m.missed ? "text-over-ink" : "text-muted"}`}>
                        {t}
                      </div>
                    ))}
                    {m.error && <div className="text-over-ink text-xs">✕ {m.error}</div>}
                  </td>
                  <td className={td}>{m.wave}</td>
                  <td className={td}>
                    <State of={machineState(d, m)} />
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
        <p className="px-4 py-3 text-muted">Its machines are being made.</p>
      )}
    </Card>
  );
}

function machineState(d: Drill, m: Schemas["DrillMachine"]): string {
  if (m.lost) return "landing gone";
  if (m.missed) return "drill failed";
  if (m.checkedAt) return "drill ran";
  if (d.state === "clearing" || d.state === "over") return "drill stopped";
  return m.startedAt ? "drill checking" : `landing ${m.state ?? "preparing"}`;
}

function Screens({ d }: { d: Drill }) {
  const shown = d.machines.filter((m) => m.screen);
  if (!shown.length) return null;
  return (
    <Card title="What they showed" aside="when all had started">
      <div className="grid gap-3 p-4 sm:grid-cols-3">
        {shown.map((m) => (
          <figure key={m.name} className="grid gap-1">
            <img
              src={`/api/v1/drills/${d.id}/screens/${encodeURIComponent(m.name)}`}
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

function Facts({ d, open }: { d: Drill; open: boolean }) {
  const row = "grid grid-cols-[92px_minmax(0,1fr)] gap-2 py-1";
  const facts: [string, React.ReactNode][] = [
    [
      "Point",
      <>
        {d.pointNumber}, {d.chosen}; captured <When at={d.captureAt} />, {d.consistency}-consistent
      </>,
    ],
    ["Would lose", span(d.losesSeconds)],
    [
      "Began",
      <>
        <When at={d.startedAt} />, by {d.startedBy}
      </>,
    ],
  ];
  if (open && d.until) facts.push(["Ends by itself", d.once ? "when all is checked" : when(d.until)]);
  if (d.tookSeconds !== undefined || d.result === "passed")
    facts.push(["Ran after", ranAfter(d.tookSeconds, d.result)]);
  if (d.rtoTargetSeconds) facts.push(["RTO target", span(d.rtoTargetSeconds)]);
  if (d.endedBy)
    facts.push([
      "Ended by",
      d.endedBy +
        (d.verdict === undefined ? "" : d.verdict ? ", who says that it passed" : ", who says that it failed"),
    ]);
  if (d.note) facts.push(["Note", d.note]);
  if (d.state === "over") {
    facts.push(["Meanwhile", `${count(d.pointsMeanwhile, "point")} arrived from ${d.home}`]);
    facts.push(["Left of it", d.nothingLeft ? "nothing; it was looked for" : "not known"]);
  }
  return (
    <Card title="Of this drill">
      <dl className="px-4 py-2">
        {facts.map(([name, value]) => (
          <div key={name} className={row}>
            <dt className="text-muted">{name}</dt>
            <dd className="font-medium">{value}</dd>
          </div>
        ))}
      </dl>
    </Card>
  );
}

/** EndDialog ends a drill, with what somebody says of it. */
function EndDialog({ d, onClose }: { d: Drill; onClose: () => void }) {
  const qc = useQueryClient();
  const form = useForm({ defaultValues: { verdict: "", note: "" } });
  return (
    <FormDialog
      title={`End the drill of ${d.groupName}`}
      intro="Its machines are removed with all that they wrote. What is known of it stays."
      form={form}
      act={(v) =>
        ask(
          api.POST("/drills/{id}/end", {
            params: { path: { id: d.id } },
            body: { passed: v.verdict ? v.verdict === "passed" : undefined, note: v.note.trim() || undefined },
          }),
        )
      }
      done={() => {
        qc.invalidateQueries({ queryKey: ["drills"] });
        onClose();
      }}
      onClose={onClose}
      stay="Leave it open"
      go="End it"
    >
      {(refusal) => (
        <>
          <Field label="What you say of it" hint="What no check sees: whether people could work with it.">
            {(id) => (
              <select id={id} className={inputLook} {...form.register("verdict")}>
                <option value="">nothing: its checks say it</option>
                <option value="passed">it passed</option>
                <option value="failed">it failed</option>
              </select>
            )}
          </Field>
          <Field label="Note" faults={refusal?.at("note")}>
            {(id) => <textarea id={id} rows={3} className={inputLook} {...form.register("note")} />}
          </Field>
        </>
      )}
    </FormDialog>
  );
}
