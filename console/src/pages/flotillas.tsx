import { keepPreviousData, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { useForm, useWatch } from "react-hook-form";
import { Link, useNavigate, useParams } from "react-router";
import { api, ask, type Schemas } from "../api";
import { asks, useMay } from "../asks";
import { ConfirmDialog, FormDialog } from "../dialog";
import { span } from "../format";
import { useSettled } from "../settled";
import { Button, Card, Empty, Fault, Field, Heads, inputLook, Page, State, td, When } from "../ui";
import { ChoiceOptions } from "./drilldialog";
import { Facts, Steps } from "./recoveryparts";

type Flotilla = Schemas["Flotilla"];
type Member = Schemas["FlotillaMember"];

const what = (f: { drill: boolean; planned: boolean }) =>
  f.drill ? "drills" : f.planned ? "planned failovers" : "failovers, not planned";

/** FlotillasCard lists recoveries of several groups together, and begins one. */
export function FlotillasCard() {
  const may = useMay();
  const [begins, setBegins] = useState(false);
  const q = useQuery({
    queryKey: ["flotillas", "list"],
    queryFn: () => ask(api.GET("/flotillas")),
    refetchInterval: 5000,
    enabled: may.operate,
  });
  if (!may.operate) return null;
  return (
    <Card title="Several groups together" aside="in stages, by what they need and by priority">
      <Fault of={q.error} />
      {q.data?.length ? (
        <div className="overflow-x-auto">
          <table className="w-full" aria-label="Several groups together">
            <Heads of={["Of", "What", "Began", "How far it is", "By"]} />
            <tbody>
              {q.data.map((f) => (
                <tr key={f.id} className="border-line border-t">
                  <td className={td}>
                    <Link to={`/flotillas/${f.id}`} className="font-semibold text-link">
                      {f.title}
                    </Link>
                  </td>
                  <td className={td}>{what(f)}</td>
                  <td className={td}>
                    <When at={f.startedAt} />
                  </td>
                  <td className={td}>{f.says}</td>
                  <td className={`${td} text-muted`}>{f.startedBy}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      ) : (
        q.data && (
          <Empty>All groups of a site, or some of them, can be recovered here in order: for good or in drills.</Empty>
        )
      )}
      <div className="border-line border-t px-4 py-2">
        <Button small onClick={() => setBegins(true)}>
          Recover several groups…
        </Button>
      </div>
      {begins && <BeginDialog onClose={() => setBegins(false)} />}
    </Card>
  );
}

type Values = {
  home: string;
  kind: string;
  choose: string;
  before: string;
  without: string[];
  reason: string;
  confirm: string;
};

function asked(v: Values): Schemas["NewFlotilla"] {
  const choose = v.kind === "planned" ? undefined : v.choose;
  return {
    home: v.home,
    without: v.without,
    drill: v.kind === "drill",
    planned: v.kind === "planned",
    choose: choose as "newest" | undefined,
    before:
      choose && (choose === "before" || choose === "near") && v.before ? new Date(v.before).toISOString() : undefined,
  };
}

function BeginDialog({ onClose }: { onClose: () => void }) {
  const go = useNavigate();
  const qc = useQueryClient();
  const links = useQuery(asks.links).data ?? [];
  const form = useForm<Values>({
    defaultValues: { home: "", kind: "drill", choose: "newest", before: "", without: [], reason: "", confirm: "" },
  });
  const v = useWatch({ control: form.control }) as Values;
  const text = useSettled(JSON.stringify(asked(v)));
  const plan = useQuery({
    queryKey: ["flotillas", "plan", text],
    queryFn: () => ask(api.POST("/flotillas/plan", { body: JSON.parse(text) })),
    enabled: !!v.home && (v.choose !== "before" || !!v.before || v.kind === "planned"),
    placeholderData: keepPreviousData,
    retry: false,
    gcTime: 0,
  });
  const p = plan.error || !v.home ? undefined : plan.data;
  const drill = v.kind === "drill";
  return (
    <FormDialog
      title="Recover several groups here"
      intro="The next stage begins when all of the one before run and are checked."
      form={form}
      act={(x) =>
        ask(api.POST("/flotillas", { body: { ...asked(x), confirm: x.confirm, reason: x.reason || undefined } }))
      }
      done={(f) => {
        qc.invalidateQueries({ queryKey: ["flotillas"] });
        go(`/flotillas/${f.id}`);
      }}
      onClose={onClose}
      go={drill ? "Start the drills" : "Start the failovers"}
      danger={!drill}
      ready={!!p && (drill || v.confirm === p.confirm)}
    >
      {(refusal) => (
        <>
          <div className="grid gap-3 sm:grid-cols-2">
            <Field label="All groups that come from" faults={refusal?.at("home")}>
              {(id) => (
                <select id={id} className={inputLook} {...form.register("home")}>
                  <option value="">choose a site…</option>
                  {links.map((l) => (
                    <option key={l.id}>{l.peer}</option>
                  ))}
                </select>
              )}
            </Field>
            <Field label="How">
              {(id) => (
                <select id={id} className={inputLook} {...form.register("kind")}>
                  <option value="drill">drills: in isolated networks, home is left alone</option>
                  <option value="planned">planned failovers: nothing is lost</option>
                  <option value="unplanned">failovers that are not planned</option>
                </select>
              )}
            </Field>
            {v.kind !== "planned" && (
              <Field label="From" faults={refusal?.at("choose")}>
                {(id) => (
                  <select id={id} className={inputLook} {...form.register("choose")}>
                    <ChoiceOptions />
                    <option value="near">of each, the point nearest to one instant for all</option>
                    <option value="before">the newest before a time</option>
                  </select>
                )}
              </Field>
            )}
            {v.kind !== "planned" && (v.choose === "before" || v.choose === "near") && (
              <Field label={v.choose === "before" ? "Before" : "The instant; the latest that all have if empty"}>
                {(id) => <input id={id} type="datetime-local" className={inputLook} {...form.register("before")} />}
              </Field>
            )}
          </div>
          <Fault of={plan.error} />
          {p && (
            <PlannedMembers
              p={p}
              without={v.without}
              set={(w) => form.setValue("without", w)}
              faults={refusal?.at("without")}
            />
          )}
          {v.kind === "unplanned" && (
            <Field label="Why it is not planned, where a home answers" faults={refusal?.at("reason")}>
              {(id) => <input id={id} className={inputLook} autoComplete="off" {...form.register("reason")} />}
            </Field>
          )}
          {!drill && p && (
            <Field label={`To go on, type: ${p.confirm}`} faults={refusal?.at("confirm")}>
              {(id) => <input id={id} className={inputLook} autoComplete="off" {...form.register("confirm")} />}
            </Field>
          )}
        </>
      )}
    </FormDialog>
  );
}

function PlannedMembers(p: {
  p: Schemas["FlotillaPlan"];
  without: string[];
  set: (w: string[]) => void;
  faults?: string[];
}) {
  return (
    <div className="grid gap-2 rounded-md bg-still-bg/60 p-3 text-xs">
      {p.p.costs.map((c) => (
        <div key={c}>◆ {c}</div>
      ))}
      <ol className="grid max-h-60 gap-1 overflow-y-auto">
        {p.p.members.map((m) => (
          <li key={m.group} className="flex items-baseline gap-2">
            <span className="grow">
              <span className="font-semibold">
                {m.stage}. {m.groupName}
              </span>
              {m.pointNumber ? `: point ${m.pointNumber}` : ""}
              {m.losesSeconds ? `, loses ${span(m.losesSeconds)}` : ""}
              {m.needs.length ? `; needs ${m.needs.join(", ")}` : ""}
              {m.says && <span className="block text-muted">{m.says}</span>}
            </span>
            <button
              type="button"
              className="whitespace-nowrap text-link underline"
              onClick={() => p.set([...p.without, m.group])}
            >
              Leave out {m.groupName}
            </button>
          </li>
        ))}
      </ol>
      {p.without.length > 0 && (
        <button type="button" className="justify-self-start text-link underline" onClick={() => p.set([])}>
          Take back those that are left out
        </button>
      )}
      {p.faults?.map((f) => (
        <div key={f} className="text-over-ink">
          ✕ {f}
        </div>
      ))}
    </div>
  );
}

/** FlotillaPage is one recovery of several groups: how it goes, and what can be decided. */
export function FlotillaPage() {
  const { id = "" } = useParams();
  const may = useMay();
  const qc = useQueryClient();
  const [asksFor, setAsksFor] = useState<"accept" | "back-out">();
  const q = useQuery({
    queryKey: ["flotillas", id],
    queryFn: () => ask(api.GET("/flotillas/{id}", { params: { path: { id } } })),
    refetchInterval: (x) => (x.state.data?.state === "over" ? false : 1000),
  });
  const steer = useMutation({
    mutationFn: (body: Schemas["FlotillaSteer"]) =>
      ask(api.POST("/flotillas/{id}/steer", { params: { path: { id } }, body })),
    onSuccess: (f) => qc.setQueryData(["flotillas", id], f),
  });
  const f = q.data;
  if (q.error) return <Fault of={q.error} />;
  if (!f) return null;
  const open = f.state !== "over" && may.operate;
  const acts = (action: "stop" | "go-on" | "end") => () => steer.mutate({ action });
  return (
    <Page
      crumbs={<Link to="/failovers">Failovers</Link>}
      title={`Recovery of ${f.title}`}
      actions={
        open && (
          <>
            <Button disabled={steer.isPending} onClick={acts(f.stopped ? "go-on" : "stop")}>
              {f.stopped ? "Let it go on" : "Begin no more"}
            </Button>
            {f.drill ? (
              <Button kind="main" disabled={steer.isPending} onClick={acts("end")}>
                End all drills
              </Button>
            ) : (
              <>
                <Button kind="danger" onClick={() => setAsksFor("back-out")}>
                  Back out of all…
                </Button>
                <Button kind="main" disabled={!f.upAt} onClick={() => setAsksFor("accept")}>
                  Accept all…
                </Button>
              </>
            )}
          </>
        )
      }
    >
      <Fault of={steer.error} />
      <p
        className={`rounded-md border px-3 py-2 ${f.stopped && open ? "border-tight bg-tight-bg text-tight-ink" : "border-line bg-card"}`}
      >
        {f.says}
      </p>
      <div className="grid items-start gap-4 xl:grid-cols-[minmax(0,1fr)_300px]">
        <Card title="Groups" aside="by stage">
          <div className="overflow-x-auto">
            <table className="w-full" aria-label="Groups">
              <Heads of={["Stage", "Group", "State", "Point", "Says"]} />
              <tbody>
                {f.members.map((m) => (
                  <MemberRow
                    key={m.group}
                    f={f}
                    m={m}
                    skip={open ? (reason) => steer.mutate({ action: "skip", group: m.group, reason }) : undefined}
                  />
                ))}
              </tbody>
            </table>
          </div>
        </Card>
        <div className="grid gap-4">
          <Facts
            title="Of this recovery"
            of={[
              ["What", what(f)],
              [
                "Began",
                <span key="b">
                  <When at={f.startedAt} />, by {f.startedBy}
                </span>,
              ],
              ...(f.upAt ? [["All were up", <When key="u" at={f.upAt} />] as [string, React.ReactNode]] : []),
              ...(f.endedAt ? [["Over", <When key="o" at={f.endedAt} />] as [string, React.ReactNode]] : []),
            ]}
          />
          <Steps of={f.steps} />
        </div>
      </div>
      {asksFor && (
        <ConfirmDialog
          title={
            asksFor === "accept" ? `Accept the failovers of ${f.title}` : `Back out of the failovers of ${f.title}`
          }
          intro={
            asksFor === "accept"
              ? "This site becomes the home of each group that has come up. There is no backing out any more."
              : "What the machines have written here since they started is lost, and each group is given back."
          }
          ask="its title"
          name={f.title}
          act={() =>
            ask(
              api.POST("/flotillas/{id}/steer", {
                params: { path: { id } },
                body: { action: asksFor, confirm: f.title },
              }),
            )
          }
          done={(x: Flotilla) => {
            qc.setQueryData(["flotillas", id], x);
            setAsksFor(undefined);
          }}
          onClose={() => setAsksFor(undefined)}
          stay="Leave them open"
          go={asksFor === "accept" ? "Accept all" : "Back out of all"}
        />
      )}
    </Page>
  );
}

function MemberRow({ f, m, skip }: { f: Flotilla; m: Member; skip?: (reason: string) => void }) {
  const [reason, setReason] = useState("");
  const to = `/${f.drill ? "drills" : "failovers"}/${m.recovery}`;
  return (
    <tr className="border-line border-t">
      <td className={`${td} font-semibold`}>{m.stage}</td>
      <td className={td}>
        {m.recovery ? (
          <Link to={to} className="font-semibold text-link">
            {m.groupName}
          </Link>
        ) : (
          <span className="font-semibold">{m.groupName}</span>
        )}
        <div className="text-muted text-xs">
          from {m.home}
          {m.needs.length ? `; needs ${m.needs.join(", ")}` : ""}
        </div>
      </td>
      <td className={td}>
        <State of={`member ${m.state}`} />
        <div className="mt-0.5 text-muted text-xs">{[m.recoveryState, m.result].filter(Boolean).join(", ")}</div>
      </td>
      <td className={td}>
        {m.pointNumber || "—"}
        {m.captureAt && (
          <div className="text-muted text-xs">
            <When at={m.captureAt} />
          </div>
        )}
      </td>
      <td className={`${td} break-words`}>
        {m.says}
        {skip && (m.state === "refused" || m.state === "waits") && (
          <div className="mt-1 flex items-center gap-2">
            <input
              aria-label={`Why go on without ${m.groupName}`}
              placeholder="why"
              className={`${inputLook} !w-40 !py-0.5 text-xs`}
              value={reason}
              onChange={(e) => setReason(e.target.value)}
            />
            <Button small disabled={!reason.trim()} onClick={() => skip(reason)}>
              Go on without it
            </Button>
          </div>
        )}
      </td>
    </tr>
  );
}
