import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useForm } from "react-hook-form";
import { Link, useParams } from "react-router";
import { api, ask, type Schemas } from "../api";
import { asks, useMay } from "../asks";
import { FormDialog } from "../dialog";
import { count, size, span, when } from "../format";
import { Button, Card, Empty, Fault, Field, inputLook, Page, td, th } from "../ui";

type Survey = Schemas["Survey"];

/** bits writes a rate as links are sold. */
function bits(bytesPerSecond: number): string {
  const b = bytesPerSecond * 8;
  if (b >= 1e9) return `${(b / 1e9).toFixed(1)} Gb/s`;
  if (b >= 1e6) return `${(b / 1e6).toFixed(1)} Mb/s`;
  return `${(b / 1e3).toFixed(0)} kb/s`;
}

const time = (s: Survey) => `${when(s.startedAt)} to ${when(s.endedAt ?? s.endsAt)}${s.endedAt ? "" : ", under way"}`;

/** SurveysPage lists surveys. */
export function SurveysPage() {
  const list = useQuery({
    queryKey: ["surveys"],
    queryFn: () => ask(api.GET("/surveys")),
    refetchInterval: 15_000,
  });
  return (
    <Page crumbs={<Link to="/machines">Machines</Link>} title="Surveys">
      <Fault of={list.error} />
      <Card>
        {list.data && !list.data.length ? (
          <Empty
            action={
              <Link to="/machines?coverage=open" className="font-semibold text-link">
                Choose machines →
              </Link>
            }
          >
            No survey yet. A survey watches how much machines change, copies nothing, and says what link, store and
            cadence they would need.
          </Empty>
        ) : (
          <div className="overflow-x-auto">
            <table className="w-full">
              <thead>
                <tr>
                  <th className={th}>Survey</th>
                  <th className={th}>Machines</th>
                  <th className={th}>Time</th>
                  <th className={th}>By</th>
                </tr>
              </thead>
              <tbody>
                {list.data?.map((s) => (
                  <tr key={s.id} className="border-line border-t">
                    <td className={td}>
                      <Link to={`/surveys/${s.id}`} className="font-semibold text-link">
                        {s.name}
                      </Link>
                    </td>
                    <td className={td}>
                      {count(s.machines.length, "machine")} · {size(s.usedBytes)}
                    </td>
                    <td className={td}>{time(s)}</td>
                    <td className={td}>{s.startedBy}</td>
                  </tr>
                ))}
              </tbody>
            </table>
          </div>
        )}
      </Card>
    </Page>
  );
}

/** SurveyPage tells what a survey has seen. */
export function SurveyPage() {
  const { id = "" } = useParams();
  const qc = useQueryClient();
  const may = useMay();
  const q = useQuery({
    queryKey: ["surveys", id],
    queryFn: () => ask(api.GET("/surveys/{id}", { params: { path: { id } } })),
    refetchInterval: 15_000,
  });
  const act = useMutation({
    mutationFn: async (what: "stop" | "delete") =>
      what === "stop"
        ? ask(api.POST("/surveys/{id}/stop", { params: { path: { id } } }))
        : ask(api.DELETE("/surveys/{id}", { params: { path: { id } } })),
    onSuccess: () => qc.invalidateQueries({ queryKey: ["surveys"] }),
  });
  const s = q.data;
  return (
    <Page
      crumbs={
        <>
          <Link to="/machines">Machines</Link> / <Link to="/surveys">Surveys</Link>
        </>
      }
      title={s?.name ?? "Survey"}
      actions={
        may.administer && s ? (
          s.endedAt ? (
            <Button kind="danger" onClick={() => act.mutate("delete")}>
              Delete
            </Button>
          ) : (
            <Button onClick={() => act.mutate("stop")}>Stop</Button>
          )
        ) : undefined
      }
    >
      <Fault of={q.error ?? act.error} />
      {act.isSuccess && act.variables === "delete" ? (
        <Card>
          <Empty
            action={
              <Link to="/surveys" className="font-semibold text-link">
                All surveys →
              </Link>
            }
          >
            The survey is deleted.
          </Empty>
        </Card>
      ) : (
        s && (
          <div className="grid items-start gap-4 xl:grid-cols-[minmax(0,1fr)_360px]">
            <div className="grid gap-4">
              <Needs s={s} />
              <Watched s={s} />
            </div>
            <Card title="What it saw" aside={time(s)}>
              <Curve s={s} />
            </Card>
          </div>
        )
      )}
    </Page>
  );
}

function Needs({ s }: { s: Survey }) {
  const may = useMay();
  return (
    <Card title="What they would need" aside={`first copy ${size(s.usedBytes)} at most`}>
      {s.needs?.length ? (
        <div className="overflow-x-auto">
          <table className="w-full">
            <thead>
              <tr>
                <th className={th}>Cycles every</th>
                <th className={`${th} text-right`}>Need of a link</th>
                <th className={`${th} text-right`}>In the busiest hour</th>
                <th className={`${th} text-right`}>A day of points</th>
              </tr>
            </thead>
            <tbody>
              {s.needs.map((n) => (
                <tr key={n.cadenceSeconds} className="border-line border-t">
                  <td className={`${td} font-semibold`}>{span(n.cadenceSeconds)}</td>
                  <td className={`${td} text-right`}>{bits(n.typicalBytesPerSecond)}</td>
                  <td className={`${td} text-right`}>{bits(n.busiestBytesPerSecond)}</td>
                  <td className={`${td} text-right`}>{size(n.dayBytes)}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      ) : (
        <Empty>Nothing has been seen yet. The first answers come after a minute.</Empty>
      )}
      <p className="border-line border-t px-4 py-2 text-muted text-xs">
        Before compression. What changes more than once between two cycles is counted once. A new group of these
        machines is foretold by this.{" "}
        {may.administer && (
          <Link
            to={`/groups/new?machines=${s.machines.map((m) => m.id).join(",")}`}
            className="font-semibold text-link"
          >
            Protect them together →
          </Link>
        )}
      </p>
    </Card>
  );
}

function Watched({ s }: { s: Survey }) {
  return (
    <Card title="Machines" aside="nothing is copied">
      <div className="overflow-x-auto">
        <table className="w-full">
          <thead>
            <tr>
              <th className={th}>Machine</th>
              <th className={`${th} text-right`}>Used</th>
              <th className={`${th} text-right`}>Changes in an hour</th>
              <th className={`${th} text-right`}>Answers</th>
            </tr>
          </thead>
          <tbody>
            {s.machines.map((m) => (
              <tr key={m.id} className="border-line border-t">
                <td className={td}>
                  <span className="font-semibold">{m.name}</span>
                  {m.note && <span className="block text-tight-ink text-xs">◆ {m.note}</span>}
                </td>
                <td className={`${td} text-right`}>{size(m.usedBytes)}</td>
                <td className={`${td} text-right`}>{m.hourBytes === undefined ? "—" : size(m.hourBytes)}</td>
                <td className={`${td} text-right`}>{m.samples}</td>
              </tr>
            ))}
          </tbody>
        </table>
      </div>
    </Card>
  );
}

/** Curve draws how much changes within lengths of time, typically and at most. */
function Curve({ s }: { s: Survey }) {
  const c = s.curve ?? [];
  const last = c[c.length - 1];
  if (!last) return <Empty>Nothing yet.</Empty>;
  const top = Math.max(...c.map((x) => x.busiestBytes), 1);
  const x = (seconds: number) => 10 + (270 * seconds) / last.withinSeconds;
  const y = (bytes: number) => 150 - (130 * bytes) / top;
  const line = (of: (p: Schemas["SurveyStretch"]) => number) =>
    [`${x(0)},${y(0)}`, ...c.map((p) => `${x(p.withinSeconds)},${y(of(p))}`)].join(" ");
  return (
    <figure className="grid gap-2 p-4">
      <svg
        viewBox="0 0 330 175"
        role="img"
        aria-label={`${size(last.typicalBytes)} change within ${span(last.withinSeconds)}, ${size(last.busiestBytes)} at most`}
      >
        <line x1="10" x2="280" y1="150" y2="150" className="stroke-line" />
        <polyline
          points={line((p) => p.busiestBytes)}
          fill="none"
          strokeDasharray="4 3"
          className="stroke-tight"
          strokeWidth="1.5"
        />
        <polyline points={line((p) => p.typicalBytes)} fill="none" className="stroke-water" strokeWidth="2" />
        {c.map((p) => (
          <circle key={p.withinSeconds} cx={x(p.withinSeconds)} cy={y(p.typicalBytes)} r="2.5" className="fill-water" />
        ))}
        <text x="284" y={Math.min(146, y(last.typicalBytes) + 4)} className="fill-ink text-[10px]">
          {size(last.typicalBytes)}
        </text>
        {y(last.typicalBytes) - y(last.busiestBytes) > 14 && (
          <text x="284" y={y(last.busiestBytes) + 4} className="fill-muted text-[10px]">
            {size(last.busiestBytes)}
          </text>
        )}
        <text x="10" y="165" className="fill-muted text-[10px]">
          0
        </text>
        <text x="280" y="165" textAnchor="end" className="fill-muted text-[10px]">
          {span(last.withinSeconds)}
        </text>
      </svg>
      <figcaption className="text-muted text-xs">
        Bytes that change within a length of time: typically (line), and in the busiest window (dashed). The flatter it
        gets, the more is written again and again, and the less rarer cycles copy.
      </figcaption>
    </figure>
  );
}

/** SurveyDialog begins a survey of machines. */
export function SurveyDialog({
  ids,
  onClose,
  onDone,
}: {
  ids: string[];
  onClose: () => void;
  onDone: (s: Survey) => void;
}) {
  const qc = useQueryClient();
  const all = useQuery(asks.machines);
  const names = ids.map((id) => all.data?.find((m) => m.id === id)?.name ?? id);
  const form = useForm({ defaultValues: { name: "", days: "7" } });
  return (
    <FormDialog
      title={`Survey ${count(ids.length, "machine")}`}
      intro={`${names.join(", ")}: how much they change is watched, and nothing is copied.`}
      form={form}
      act={(v) =>
        ask(
          api.POST("/surveys", {
            body: { name: v.name, machines: ids, forSeconds: Math.round(Number(v.days) * 86400) },
          }),
        )
      }
      done={(s) => {
        qc.invalidateQueries({ queryKey: ["surveys"] });
        onDone(s);
      }}
      onClose={onClose}
      go="Begin"
    >
      {(refusal) => (
        <>
          <Field
            label="Name"
            faults={[
              ...(refusal?.at("name") ?? []),
              ...(refusal?.errors ?? []).filter((e) => e.field.startsWith("machines")).map((e) => e.message),
            ]}
          >
            {(i) => <input id={i} autoComplete="off" className={inputLook} {...form.register("name")} />}
          </Field>
          <Field label="Days" hint="A week shows every hour of it." faults={refusal?.at("forSeconds")}>
            {(i, d) => (
              <input id={i} aria-describedby={d} inputMode="decimal" className={inputLook} {...form.register("days")} />
            )}
          </Field>
        </>
      )}
    </FormDialog>
  );
}
