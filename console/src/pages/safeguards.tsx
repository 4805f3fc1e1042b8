import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useForm } from "react-hook-form";
import { api, ask, Problem, type Schemas } from "../api";
import { asks, useMay } from "../asks";
import { when } from "../format";
import { Button, Card, Fault, Field, inputLook } from "../ui";

const acts = [
  ["delete-points", "Deleting points, or keeping fewer"],
  ["end-groups", "Ending groups and deleting their points"],
  ["unpair", "Removing links, and new keys of paired sites"],
] as const;
const roles = ["administrator", "operator", "viewer"];

type Safeguards = Schemas["Safeguards"];

/** SafeguardsCard is what the site demands of its people. */
export function SafeguardsCard() {
  const q = useQuery(asks.safeguards);
  const { administer } = useMay();
  return (
    <Card title="Safeguards" aside="what this site demands of its people">
      <div className="grid gap-3 px-4 py-3">
        {q.data?.waivedUntil && new Date(q.data.waivedUntil) > new Date() && (
          <p role="alert" className="rounded bg-over-bg px-2.5 py-1.5 font-semibold text-over-ink">
            ▲ Nobody has to consent until {when(q.data.waivedUntil)}; that was said on the site's host.
          </p>
        )}
        <Fault of={q.error} />
        {q.data && <SafeguardsForm key={JSON.stringify(q.data)} now={q.data} fixed={!administer} />}
      </div>
    </Card>
  );
}

function SafeguardsForm({ now, fixed }: { now: Safeguards; fixed: boolean }) {
  const qc = useQueryClient();
  const form = useForm({
    defaultValues: { factor: now.secondFactor, consent: now.consent, hours: now.consentHours },
  });
  const set = useMutation({
    mutationFn: (v: { factor: string[]; consent: string[]; hours: number }) =>
      ask(
        api.PUT("/safeguards", {
          body: {
            secondFactor: v.factor,
            // What goes with them is put there by the service, and goes with them.
            consent: v.consent.filter((k) => acts.some((a) => a[0] === k)),
            consentHours: v.hours,
          },
        }),
      ),
    onSettled: () => {
      qc.invalidateQueries({ queryKey: ["safeguards"] });
      qc.invalidateQueries({ queryKey: ["consents"] });
    },
  });
  const p = set.error instanceof Problem ? set.error : undefined;
  return (
    <form className="grid gap-3" onSubmit={form.handleSubmit((v) => set.mutate(v))}>
      <fieldset className="grid gap-1" disabled={fixed}>
        <legend className="mb-1 font-medium">A second factor is demanded of every</legend>
        <div className="flex flex-wrap gap-4">
          {roles.map((r) => (
            <label key={r} className="flex items-center gap-1.5">
              <input type="checkbox" value={r} {...form.register("factor")} /> {r}
            </label>
          ))}
        </div>
      </fieldset>
      <fieldset className="grid gap-1" disabled={fixed}>
        <legend className="mb-1 font-medium">A second administrator has to consent to</legend>
        {acts.map(([k, text]) => (
          <label key={k} className="flex items-center gap-1.5">
            <input type="checkbox" value={k} {...form.register("consent")} /> {text}
          </label>
        ))}
        <span className="text-muted text-xs">
          Then also to making, changing or removing administrators, and to changing this: one alone could do that first.
        </span>
      </fieldset>
      {!fixed && (
        <Field label="Within hours" hint="1 to 168; then it has to be asked for again." faults={p?.at("consentHours")}>
          {(id) => (
            <input
              id={id}
              type="number"
              min={1}
              max={168}
              required
              className={`${inputLook} max-w-28`}
              {...form.register("hours", { valueAsNumber: true })}
            />
          )}
        </Field>
      )}
      <Fault of={set.error && !p?.at("consentHours").length ? set.error : undefined} />
      {fixed ? (
        <p className="text-muted text-xs">Administrators change this.</p>
      ) : (
        <Button type="submit" className="justify-self-start" disabled={set.isPending || !form.formState.isDirty}>
          Save the safeguards
        </Button>
      )}
    </form>
  );
}

const states: Record<string, string> = {
  waiting: "◌ waits for a second person",
  given: "● can be done once",
  used: "● done",
  refused: "✕ refused",
  withdrawn: "□ withdrawn",
  expired: "□ lapsed",
};

/** ConsentsCard is what waits for a second person. It is not there while nothing does. */
export function ConsentsCard() {
  const qc = useQueryClient();
  const q = useQuery(asks.consents);
  const answer = useMutation({
    mutationFn: (x: { id: string; give: boolean }) =>
      ask(
        x.give
          ? api.POST("/consents/{id}/give", { params: { path: { id: x.id } } })
          : api.POST("/consents/{id}/refuse", { params: { path: { id: x.id } } }),
      ),
    onSettled: () => qc.invalidateQueries({ queryKey: ["consents"] }),
  });
  if (!q.data?.length) return null;
  return (
    <Card title="Consent of a second person" aside="open, or answered in the last week">
      <ul>
        {q.data.map((c) => (
          <li key={c.id} className="flex items-center justify-between gap-3 border-line border-b px-4 py-2">
            <span>
              <strong>{c.mine ? "You" : c.askedBy}</strong> {c.mine ? "want" : "wants"} to {c.what}{" "}
              <span className="block text-muted text-xs">
                {states[c.state] ?? c.state}
                {c.answeredBy ? ` · by ${c.answeredBy}` : ""} · asked {when(c.askedAt)}
                {c.state === "waiting" || c.state === "given" ? ` · until ${when(c.until)}` : ""}
                {c.mine && c.state === "given" ? " · do the same again now" : ""}
              </span>
            </span>
            <span className="flex shrink-0 gap-2">
              {c.yours && (
                <Button
                  small
                  kind="main"
                  disabled={answer.isPending}
                  onClick={() => answer.mutate({ id: c.id, give: true })}
                >
                  Consent
                </Button>
              )}
              {(c.yours || (c.mine && (c.state === "waiting" || c.state === "given"))) && (
                <Button small disabled={answer.isPending} onClick={() => answer.mutate({ id: c.id, give: false })}>
                  {c.mine ? "Withdraw" : "Refuse"}
                </Button>
              )}
            </span>
          </li>
        ))}
      </ul>
      <div className="px-4 py-3 empty:hidden">
        <Fault of={q.error ?? answer.error} />
      </div>
    </Card>
  );
}
