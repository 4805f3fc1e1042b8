import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useForm } from "react-hook-form";
import { api, ask, Problem } from "../api";
import { asks } from "../asks";
import { when } from "../format";
import { Button, Card, Fault, Field, inputLook, Listed } from "../ui";

const fields = [
  ["old", "Old password", "current-password"],
  ["new", "New password", "new-password"],
  ["again", "The new one again", "new-password"],
] as const;

/** YouCard is one's own sessions and password. */
export function YouCard() {
  const qc = useQueryClient();
  const q = useQuery(asks.sessions);
  const me = useQuery(asks.me).data;
  const again = () => qc.invalidateQueries({ queryKey: ["sessions"] });
  const end = useMutation({
    mutationFn: (id: string) => ask(api.DELETE("/sessions/{id}", { params: { path: { id } } })),
    onSettled: again,
  });
  const form = useForm({ defaultValues: { old: "", new: "", again: "" } });
  const change = useMutation({
    mutationFn: (v: { old: string; new: string }) =>
      ask(api.POST("/session/password", { body: { old: v.old, new: v.new } })),
    onSuccess: () => {
      form.reset();
      again();
    },
  });
  const p = change.error instanceof Problem ? change.error : undefined;
  const differs = form.formState.errors.again?.message;
  return (
    <Card title="You" aside="your sessions and your password">
      <Listed items={q.data} button={{ text: "End", busy: end.isPending, act: (s) => end.mutate(s.id) }}>
        {(s) => (
          <>
            <strong>{s.current ? "This session" : `From ${s.origin ?? "somewhere"}`}</strong>{" "}
            <span className="text-muted text-xs">
              {s.current && s.origin ? `from ${s.origin} · ` : ""}began {when(s.createdAt)} · used {when(s.lastUsedAt)}{" "}
              · ends {when(s.expiresAt)}
            </span>
          </>
        )}
      </Listed>
      {me?.signOn ? (
        <p className="px-4 py-3 text-muted">
          Your password, your second factor and your role are set where you sign in.
        </p>
      ) : (
        <form className="grid gap-2 px-4 py-3" onSubmit={form.handleSubmit((v) => change.mutate(v))}>
          <div className="grid gap-3 sm:grid-cols-3">
            {fields.map(([name, label, kind]) => (
              <Field
                key={name}
                label={label}
                faults={name === "again" ? (differs ? [differs] : undefined) : p?.at(name)}
              >
                {(id) => (
                  <input
                    id={id}
                    type="password"
                    autoComplete={kind}
                    className={inputLook}
                    {...form.register(name, {
                      validate: (x) => name !== "again" || x === form.getValues("new") || "This is not the same.",
                    })}
                  />
                )}
              </Field>
            ))}
          </div>
          {change.isSuccess && (
            <div role="status" className="rounded bg-good-bg px-2.5 py-1.5 text-good-ink text-xs">
              Your password is changed; your other sessions have ended.
            </div>
          )}
          <Fault of={q.error ?? end.error ?? (change.error && !p?.errors.length ? change.error : undefined)} />
          <Button type="submit" className="justify-self-start" disabled={change.isPending}>
            Change the password
          </Button>
        </form>
      )}
    </Card>
  );
}
