import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useForm } from "react-hook-form";
import { Link, useParams } from "react-router";
import { useAddress, useDialog } from "../address";
import { api, ask, type Schemas } from "../api";
import { asks, useMay } from "../asks";
import { ConfirmDialog, FormDialog, NameField } from "../dialog";
import { size, span } from "../format";
import { Bar, Button, Card, Empty, Fault, Field, Heads, inputLook, Page, State, td, When } from "../ui";
import { ChoiceOptions } from "./drilldialog";
import { FlotillasCard } from "./flotillas";
import { EvidenceLinks, Facts, GroupSelect, RecoveredMachines, ranAfter, Screens, Steps } from "./recoveryparts";
import { RunbookSteps } from "./runbooksteps";

type Failover = Schemas["Failover"];

const failoverState = (f: Failover) =>
  f.state === "over" ? `failover ${f.result ?? "over"}` : f.stopped ? "failover stopped" : `failover ${f.state}`;

const lost = (f: { losesSeconds: number; losesBytes?: number }) =>
  f.losesSeconds
    ? span(f.losesSeconds) + (f.losesBytes === undefined ? "" : `, ${size(f.losesBytes)} as home last said`)
    : "nothing";

/** FailoversPage lists the failovers to this site. */
export function FailoversPage() {
  const [at, set] = useAddress();
  const group = at("group");
  const groups = useQuery(asks.groups).data ?? [];
  const q = useQuery({
    queryKey: ["failovers", "list", group],
    queryFn: () => ask(api.GET("/failovers", { params: { query: group ? { group } : {} } })),
    refetchInterval: 5000,
  });
  return (
    <Page title="Failovers" actions={<GroupSelect of={groups} value={group} onChange={(id) => set({ group: id })} />}>
      <Fault of={q.error} />
      <Card title="Groups that were run here" aside="open until somebody accepts, or backs out">
        {q.data?.length ? (
          <div className="overflow-x-auto">
            <table className="w-full" aria-label="Failovers">
              <Heads of={["Group", "From", "Began", "Kind", "State", "Lost", "Ran after", "By"]} />
              <tbody>
                {q.data.map((f) => (
                  <tr key={f.id} className="border-line border-t">
                    <td className={td}>
                      <Link to={`/failovers/${f.id}`} className="font-semibold text-link">
                        {f.groupName}
                      </Link>
                    </td>
                    <td className={td}>{f.home}</td>
                    <td className={td}>
                      <When at={f.startedAt} />
                    </td>
                    <td className={td}>{f.planned ? "planned" : "not planned"}</td>
                    <td className={td}>
                      <State of={failoverState(f)} />
                    </td>
                    <td className={td}>{f.losesSeconds ? span(f.losesSeconds) : "nothing"}</td>
                    <td className={td}>{ranAfter(f.tookSeconds)}</td>
                    <td className={`${td} text-muted`}>{f.startedBy}</td>
                  </tr>
                ))}
              </tbody>
            </table>
          </div>
        ) : (
          q.data && (
            <Empty>
              No group was failed over to this site yet. It is begun on the page of a group that comes in; what it would
              do is said before.
            </Empty>
          )
        )}
      </Card>
      <FlotillasCard />
    </Page>
  );
}

/** FailoverPage is one failover: how it goes, what can be decided, and what is kept of it. */
export function FailoverPage() {
  const { id = "" } = useParams();
  const may = useMay();
  const qc = useQueryClient();
  const dialog = useDialog<"accept" | "back-out" | "point">();
  const q = useQuery({
    queryKey: ["failovers", id],
    queryFn: () => ask(api.GET("/failovers/{id}", { params: { path: { id } } })),
    refetchInterval: (x) => (x.state.data?.state === "over" ? false : 1000),
  });
  const steer = useMutation({
    mutationFn: (body: Schemas["FailoverSteer"]) =>
      ask(api.POST("/failovers/{id}/steer", { params: { path: { id } }, body })),
    onSuccess: (f) => qc.setQueryData(["failovers", id], f),
  });
  const f = q.data;
  if (q.error) return <Fault of={q.error} />;
  if (!f) return null;
  const done = () => {
    qc.invalidateQueries({ queryKey: ["failovers"] });
    dialog.close();
  };
  const decided = !!f.acceptedBy || !!f.backedOutBy;
  const restarts = !decided && (f.state === "open" || f.state === "starting");
  return (
    <Page
      crumbs={
        <>
          <Link to="/failovers">Failovers</Link> / <Link to={`/groups/${f.group}`}>{f.groupName}</Link>
        </>
      }
      title={
        <>
          Failover of {f.groupName} <State of={failoverState(f)} />
        </>
      }
      actions={
        <>
          {f.state === "over" && <EvidenceLinks of={f} />}
          {may.operate && (
            <>
              {!decided &&
                f.state !== "over" &&
                (f.stopped ? (
                  <Button disabled={steer.isPending} onClick={() => steer.mutate({ action: "go-on" })}>
                    Let it go on
                  </Button>
                ) : (
                  <Button disabled={steer.isPending} onClick={() => steer.mutate({ action: "stop" })}>
                    Stop here
                  </Button>
                ))}
              {restarts && <Button onClick={() => dialog.open("point")}>Another point…</Button>}
              {f.backOutCosts.length > 0 && (
                <Button kind="danger" onClick={() => dialog.open("back-out")}>
                  Back out…
                </Button>
              )}
              {f.acceptCosts.length > 0 && (
                <Button kind="main" onClick={() => dialog.open("accept")}>
                  Accept…
                </Button>
              )}
            </>
          )}
        </>
      }
    >
      <Fault of={steer.error} />
      {(f.says || f.error) && (
        <p
          className={`rounded-md border px-3 py-2 ${f.error ? "border-over bg-over-bg text-over-ink" : f.state === "open" ? "border-tight bg-tight-bg text-tight-ink" : "border-line bg-card"}`}
        >
          {[f.says, f.error && `Held up: ${f.error}`].filter(Boolean).join(" ")}
          {f.error && f.state === "stopping" && may.operate && (
            <span className="mt-2 block">
              <Button kind="danger" disabled={steer.isPending} onClick={() => steer.mutate({ action: "switch-off" })}>
                Switch them off at {f.home}
              </Button>
            </span>
          )}
        </p>
      )}
      <div className="grid items-start gap-4 xl:grid-cols-[minmax(0,1fr)_300px]">
        <div className="grid min-w-0 gap-4">
          <Stages f={f} />
          <RecoveredMachines
            of={f}
            over={f.state === "over"}
            act={
              may.operate && f.state === "starting"
                ? (m) => m.startedAt && !m.checkedAt && <Skip id={f.id} machine={m.name} />
                : undefined
            }
          />
          <RunbookSteps at="failovers" id={f.id} of={f.runbook} act={may.operate && restarts} />
          <Screens of={f} at="failovers" />
        </div>
        <div className="grid gap-4">
          <FailoverFacts f={f} />
          {f.known.length > 0 && (
            <Card title={`Known of ${f.home} when it began`}>
              <ul className="grid gap-1 px-4 py-2 text-xs">
                {f.known.map((t) => (
                  <li key={t}>{t}</li>
                ))}
              </ul>
            </Card>
          )}
          <Steps of={f.steps} />
        </div>
      </div>
      {dialog.name === "accept" && <AcceptDialog f={f} done={done} onClose={dialog.close} />}
      {dialog.name === "back-out" && <BackOutDialog f={f} done={done} onClose={dialog.close} />}
      {dialog.name === "point" && <PointDialog f={f} done={done} onClose={dialog.close} />}
    </Page>
  );
}

/** Stages shows how far it has come. */
function Stages({ f }: { f: Failover }) {
  return (
    <Card
      title="How far it is"
      aside={f.planned ? "planned: nothing is lost" : "not planned: nothing is asked of home"}
    >
      <ol className="px-4 py-2">
        {f.stages.map((s) => {
          const now = s.beganAt && !s.endedAt;
          return (
            <li
              key={s.name}
              aria-current={now ? "step" : undefined}
              className={`grid grid-cols-[20px_minmax(0,1fr)_auto] gap-2 py-1 ${now ? "font-semibold" : s.beganAt ? "" : "text-muted"}`}
            >
              <span aria-hidden="true">{s.endedAt ? "●" : now ? "◑" : "○"}</span>
              <span>{s.text}</span>
              <span className="text-muted text-xs">
                {s.beganAt && s.endedAt
                  ? `took ${ranAfter((Date.parse(s.endedAt) - Date.parse(s.beganAt)) / 1000)}`
                  : now && (
                      <>
                        since <When at={s.beganAt} />
                      </>
                    )}
              </span>
            </li>
          );
        })}
      </ol>
      {f.state !== "over" && f.localBytes !== undefined && f.totalBytes ? (
        <div className="grid gap-1 border-line border-t px-4 py-2 text-xs">
          <Bar share={f.localBytes / f.totalBytes} label="Disks that are local" />
          <span className="text-muted">
            {size(f.localBytes)} of {size(f.totalBytes)} are local: what is not reads from the point
          </span>
        </div>
      ) : null}
    </Card>
  );
}

/** Skip waits for the check of a machine no longer. */
function Skip({ id, machine }: { id: string; machine: string }) {
  const qc = useQueryClient();
  const form = useForm({ defaultValues: { reason: "" } });
  const m = useMutation({
    mutationFn: (reason: string) =>
      ask(
        api.POST("/failovers/{id}/steer", {
          params: { path: { id } },
          body: { action: "skip", machine, reason },
        }),
      ),
    onSuccess: (f) => qc.setQueryData(["failovers", id], f),
  });
  return (
    <form className="mt-1 flex items-center gap-2" onSubmit={form.handleSubmit((v) => m.mutate(v.reason))}>
      <input
        aria-label={`Why not wait for ${machine}`}
        placeholder="why not wait for its check"
        className={`${inputLook} !w-auto !py-0.5 text-xs`}
        {...form.register("reason")}
      />
      <Button type="submit" disabled={m.isPending || !form.watch("reason").trim()}>
        Wait no longer
      </Button>
      <Fault of={m.error} />
    </form>
  );
}

function FailoverFacts({ f }: { f: Failover }) {
  const facts: [string, React.ReactNode][] = [
    ["From", `${f.home}, ${f.planned ? "planned" : "not planned"}`],
    [
      "Point",
      <>
        {f.pointNumber}, {f.chosen}; captured <When at={f.captureAt} />, {f.consistency}-consistent
      </>,
    ],
    ["Lost", lost(f)],
    ...(f.inPlace ? ([["In place of", `the old ${f.inPlace.join(", ")}`]] as [string, React.ReactNode][]) : []),
    ...(f.leftOut.length
      ? ([["Not started", `${f.leftOut.join(", ")}, by choice`]] as [string, React.ReactNode][])
      : []),
    [
      "Began",
      <>
        <When at={f.startedAt} />, by {f.startedBy}
      </>,
    ],
  ];
  if (f.turnedAt) facts.push(["Home here", <When key="t" at={f.turnedAt} />]);
  if (f.tookSeconds !== undefined || f.openAt) facts.push(["Ran after", ranAfter(f.tookSeconds ?? 0)]);
  else if (f.expectedSeconds !== undefined && f.state !== "over")
    facts.push(["Expected", `all run after ${ranAfter(f.expectedSeconds)}, as the last time`]);
  if (f.rtoTargetSeconds) facts.push(["RTO target", span(f.rtoTargetSeconds)]);
  if (f.acceptedBy) facts.push(["Accepted by", f.acceptedBy + (f.unprotected ? ", unprotected" : "")]);
  if (f.backedOutBy) facts.push(["Backed out by", f.backedOutBy]);
  if (f.reason) facts.push(["Reason", f.reason]);
  if (f.endedAt) facts.push(["Over", <When key="e" at={f.endedAt} />]);
  return <Facts title="Of this failover" of={facts} />;
}

type Deciding = { f: Failover; done: () => void; onClose: () => void };

function Costs({ of }: { of: string[] }) {
  return (
    <ul className="grid gap-1 rounded-md border border-tight bg-tight-bg px-3 py-2 text-tight-ink">
      {of.map((t) => (
        <li key={t}>◆ {t}</li>
      ))}
    </ul>
  );
}

function AcceptDialog({ f, done, onClose }: Deciding) {
  const form = useForm({ defaultValues: { name: "", unprotected: false } });
  return (
    <FormDialog
      title={`Accept the failover of ${f.groupName}`}
      form={form}
      act={(v) =>
        ask(
          api.POST("/failovers/{id}/accept", {
            params: { path: { id: f.id } },
            body: { confirm: v.name, unprotected: v.unprotected },
          }),
        )
      }
      done={done}
      onClose={onClose}
      stay="Leave it open"
      go="Accept it"
      danger
      ready={form.watch("name") === f.groupName}
    >
      {() => (
        <>
          <Costs of={f.acceptCosts} />
          <label className="flex items-baseline gap-2">
            <input type="checkbox" {...form.register("unprotected")} /> Copy it nowhere for now; an alert says so until
            it is resumed
          </label>
          <NameField of={f.groupName} {...form.register("name")} />
        </>
      )}
    </FormDialog>
  );
}

function BackOutDialog({ f, done, onClose }: Deciding) {
  return (
    <ConfirmDialog
      title={`Back out of the failover of ${f.groupName}`}
      intro={null}
      ask="the group's name"
      name={f.groupName}
      act={() =>
        ask(api.POST("/failovers/{id}/back-out", { params: { path: { id: f.id } }, body: { confirm: f.groupName } }))
      }
      done={done}
      onClose={onClose}
      stay="Leave it open"
      go="Back out"
    >
      <Costs of={f.backOutCosts} />
    </ConfirmDialog>
  );
}

function PointDialog({ f, done, onClose }: Deciding) {
  const form = useForm({ defaultValues: { choose: "newest", before: "", point: "", name: "" } });
  const way = form.watch("choose");
  return (
    <FormDialog
      title={`Start ${f.groupName} from another point`}
      intro="Its machines are removed and made anew."
      form={form}
      act={(v) =>
        ask(
          api.POST("/failovers/{id}/point", {
            params: { path: { id: f.id } },
            body: {
              confirm: v.name,
              point: v.choose === "number" ? v.point : undefined,
              choose: v.choose === "number" ? undefined : v.choose,
              before: v.choose === "before" && v.before ? new Date(v.before).toISOString() : undefined,
            },
          }),
        )
      }
      done={done}
      onClose={onClose}
      go="Start anew"
      danger
      ready={form.watch("name") === f.groupName}
    >
      {(refusal) => (
        <>
          <Costs of={["What its machines have written here since they started is lost."]} />
          <Field label="From" faults={refusal?.at("choose")}>
            {(id) => (
              <select id={id} className={inputLook} {...form.register("choose")}>
                <ChoiceOptions />
                <option value="before">the newest before a time</option>
                <option value="number">a point by its number</option>
              </select>
            )}
          </Field>
          {way === "before" && (
            <Field label="Before" faults={refusal?.at("before")}>
              {(id) => <input id={id} type="datetime-local" className={inputLook} {...form.register("before")} />}
            </Field>
          )}
          {way === "number" && (
            <Field label="Number" faults={refusal?.at("point")}>
              {(id) => <input id={id} inputMode="numeric" className={inputLook} {...form.register("point")} />}
            </Field>
          )}
          <NameField of={f.groupName} {...form.register("name")} />
        </>
      )}
    </FormDialog>
  );
}
