import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useForm } from "react-hook-form";
import { api, ask, Problem } from "../api";
import { asks } from "../asks";
import { tagsOf, when } from "../format";
import { Button, Card, Fault, Field, inputLook, Listed, Once } from "../ui";
import { RoleSelect } from "./roles";

/** Tokens are for programs and the command line; a secret is shown once. */
export function TokensCard() {
  const qc = useQueryClient();
  const form = useForm({ defaultValues: { name: "", role: "viewer", days: 90, networks: "" } });
  const q = useQuery(asks.tokens);
  const again = () => qc.invalidateQueries({ queryKey: ["tokens"] });
  const make = useMutation({
    mutationFn: (v: { name: string; role: string; days: number; networks: string }) =>
      ask(api.POST("/tokens", { body: { ...v, networks: tagsOf(v.networks) } })),
    onSuccess: () => {
      form.resetField("name");
      again();
    },
  });
  const revoke = useMutation({
    mutationFn: (id: string) => ask(api.DELETE("/tokens/{id}", { params: { path: { id } } })),
    onSuccess: again,
  });
  const p = make.error instanceof Problem ? make.error : undefined;
  return (
    <Card title="API tokens" aside="for programs and the command line">
      <Listed items={q.data} button={{ text: "Revoke", busy: revoke.isPending, act: (t) => revoke.mutate(t.id) }}>
        {(t) => (
          <>
            <strong>{t.name}</strong>{" "}
            <span className="text-muted text-xs">
              {t.role} · of {t.person} · made {when(t.createdAt)} · used {when(t.lastUsedAt)}
              {t.usedFrom ? ` from ${t.usedFrom}` : ""} · {t.expiresAt ? `ends ${when(t.expiresAt)}` : "no end"} · good
              from {t.networks.length ? t.networks.join(", ") : "anywhere"}
            </span>
          </>
        )}
      </Listed>
      <form className="grid gap-2 px-4 py-3" onSubmit={form.handleSubmit((v) => make.mutate(v))}>
        <div className="grid gap-3 sm:grid-cols-2">
          <Field label="New token for" hint="What will use it." faults={p?.at("name")}>
            {(id) => <input id={id} className={inputLook} {...form.register("name")} />}
          </Field>
          <Field label="Which may act as" hint="Never more than its person may." faults={p?.at("role")}>
            {(id) => <RoleSelect id={id} {...form.register("role")} />}
          </Field>
          <Field label="Days until it ends" hint="1 to 365." faults={p?.at("days")}>
            {(id) => (
              <input
                id={id}
                type="number"
                min={1}
                max={365}
                required
                className={inputLook}
                {...form.register("days", { valueAsNumber: true })}
              />
            )}
          </Field>
          <Field
            label="Good from these networks only"
            hint="Such as 192.0.2.0/24. Leave empty for anywhere."
            faults={p?.at("networks")}
          >
            {(id) => <input id={id} className={inputLook} {...form.register("networks")} />}
          </Field>
        </div>
        {make.data && <Once>{make.data.secret}</Once>}
        <Fault of={q.error ?? revoke.error ?? (make.error && !p?.errors.length ? make.error : undefined)} />
        <Button type="submit" className="justify-self-start" disabled={make.isPending}>
          Make a token
        </Button>
      </form>
    </Card>
  );
}
