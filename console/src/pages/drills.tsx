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
import { EvidenceLinks, Facts, GroupSelect, RecoveredMachines, ranAfter, Screens, Steps } from "./recoveryparts";
import { RunbookSteps } from "./runbooksteps";

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
    <Page title="Drills" actions={<GroupSelect of={coming} value={group} onChange={(id) => set({ group: id })} />}>
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
          {d.state === "over" && <EvidenceLinks of={d} />}
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
          <RecoveredMachines of={d} over={d.state === "clearing" || d.state === "over"} />
          <RunbookSteps at="drills" id={d.id} of={d.runbook} act={may.operate && open} />
          <Screens of={d} at="drills" />
        </div>
        <div className="grid gap-4">
          <DrillFacts d={d} open={open} />
          <Steps of={d.steps} />
        </div>
      </div>
      {dialog.name === "end" && <EndDialog d={d} onClose={dialog.close} />}
    </Page>
  );
}

function DrillFacts({ d, open }: { d: Drill; open: boolean }) {
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
    facts.push([
      "Left of it",
      d.kept ? "its machines, as landings of their own" : d.nothingLeft ? "nothing; it was looked for" : "not known",
    ]);
  }
  return <Facts title="Of this drill" of={facts} />;
}

/** EndDialog ends a drill, with what somebody says of it. */
function EndDialog({ d, onClose }: { d: Drill; onClose: () => void }) {
  const qc = useQueryClient();
  const form = useForm({ defaultValues: { verdict: "", note: "", keep: false } });
  return (
    <FormDialog
      title={`End the drill of ${d.groupName}`}
      intro="Its machines are removed with all that they wrote, unless you keep them. What is known of it stays."
      form={form}
      act={(v) =>
        ask(
          api.POST("/drills/{id}/end", {
            params: { path: { id: d.id } },
            body: {
              passed: v.verdict ? v.verdict === "passed" : undefined,
              note: v.note.trim() || undefined,
              keep: v.keep,
            },
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
          <label className="flex items-baseline gap-2">
            <input type="checkbox" {...form.register("keep")} /> Keep its machines with what was changed in them, as
            landings
          </label>
        </>
      )}
    </FormDialog>
  );
}
