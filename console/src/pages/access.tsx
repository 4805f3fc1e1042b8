import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import type { ComponentProps } from "react";
import { useForm, useWatch } from "react-hook-form";
import { useDialog } from "../address";
import { api, ask, Problem } from "../api";
import { asks, useMay } from "../asks";
import { ConfirmDialog } from "../dialog";
import { when } from "../format";
import { Button, Card, Fault, Field, inputLook, Listed, Page } from "../ui";
import { YouCard } from "./you";

const roles = [
  ["viewer", "Viewer", "sees everything, changes nothing"],
  ["operator", "Operator", "runs, pauses, pins, serves and lands"],
  ["administrator", "Administrator", "everything"],
] as const;

export function AccessPage() {
  const may = useMay();
  return (
    <Page title="Access">
      <div className="grid items-start gap-4 lg:grid-cols-2">
        {may.administer && <PeopleCard />}
        <TokensCard />
        <YouCard />
      </div>
    </Page>
  );
}

function RoleSelect(p: ComponentProps<"select">) {
  return (
    <select className={`${inputLook} min-w-38`} {...p}>
      {roles.map(([v, text, what]) => (
        <option key={v} value={v} title={what}>
          {text}
        </option>
      ))}
    </select>
  );
}

const tagsOf = (text: string) => text.split(/[\s,]+/).filter(Boolean);

/** People sign in; each has a role, which may be limited to groups with a tag. */
function PeopleCard() {
  const qc = useQueryClient();
  const dialog = useDialog<"remove">();
  const q = useQuery(asks.people);
  const again = () => qc.invalidateQueries({ queryKey: ["people"] });
  const edit = useMutation({
    mutationFn: (x: { id: string; role: string }) =>
      ask(api.PATCH("/people/{id}", { params: { path: { id: x.id } }, body: { role: x.role } })),
    onSettled: again,
  });
  const leaving = dialog.name === "remove" ? q.data?.find((x) => x.id === dialog.ids[0]) : undefined;
  return (
    <Card title="People" aside="who may sign in">
      <Listed
        items={q.data}
        button={{ text: "Remove…", danger: true, act: (x) => dialog.open("remove", x.id) }}
        beside={(x) => (
          <RoleSelect
            aria-label={`Role of ${x.name}`}
            value={x.role}
            onChange={(e) => edit.mutate({ id: x.id, role: e.target.value })}
          />
        )}
      >
        {(x) => (
          <>
            <strong>{x.name}</strong>{" "}
            <span className="text-muted text-xs">
              since {when(x.createdAt)} · {x.tags.length ? `groups tagged ${x.tags.join(", ")}` : "all groups"}
            </span>
          </>
        )}
      </Listed>
      <div className="px-4 pt-3 empty:hidden">
        <Fault of={q.error ?? edit.error} />
      </div>
      <InviteForm />
      {leaving && (
        <ConfirmDialog
          title={`Remove ${leaving.name}`}
          intro="They are signed out at once, and their tokens end. What they did stays in the activity."
          ask="their name"
          name={leaving.name}
          act={() => ask(api.DELETE("/people/{id}", { params: { path: { id: leaving.id } } }))}
          done={() => {
            again();
            dialog.close();
          }}
          onClose={dialog.close}
          go="Remove them"
          stay="Leave them"
        />
      )}
    </Card>
  );
}

function InviteForm() {
  const form = useForm({ defaultValues: { role: "operator", tags: "" } });
  const role = useWatch({ control: form.control, name: "role" });
  const invite = useMutation({
    mutationFn: (v: { role: string; tags: string }) =>
      ask(api.POST("/people", { body: { role: v.role, tags: tagsOf(v.tags) } })),
  });
  const p = invite.error instanceof Problem ? invite.error : undefined;
  return (
    <form className="grid gap-2 px-4 py-3" onSubmit={form.handleSubmit((v) => invite.mutate(v))}>
      <div className="grid gap-3 sm:grid-cols-2">
        <Field label="Somebody new joins as" hint={roles.find((r) => r[0] === role)?.[2]} faults={p?.at("role")}>
          {(id) => <RoleSelect id={id} {...form.register("role")} />}
        </Field>
        <Field label="Only for groups tagged" hint="Leave empty for all groups." faults={p?.at("tags")}>
          {(id) => <input id={id} className={inputLook} {...form.register("tags")} />}
        </Field>
      </div>
      {invite.data && (
        <div className="rounded bg-good-bg px-2.5 py-1.5 text-good-ink text-xs">
          Good once, until {when(invite.data.expiresAt)}. Shown once:{" "}
          <code className="select-all break-all">{invite.data.link}</code>
        </div>
      )}
      <Fault of={invite.error && !p?.errors.length ? invite.error : undefined} />
      <Button type="submit" className="justify-self-start" disabled={invite.isPending}>
        Make a one-time link
      </Button>
    </form>
  );
}

/** Tokens are for programs and the command line; a secret is shown once. */
function TokensCard() {
  const qc = useQueryClient();
  const form = useForm({ defaultValues: { name: "", role: "viewer" } });
  const q = useQuery(asks.tokens);
  const again = () => qc.invalidateQueries({ queryKey: ["tokens"] });
  const make = useMutation({
    mutationFn: (v: { name: string; role: string }) => ask(api.POST("/tokens", { body: { ...v, days: 365 } })),
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
              {t.role} · of {t.person} · made {when(t.createdAt)} · used {when(t.lastUsedAt)} ·{" "}
              {t.expiresAt ? `ends ${when(t.expiresAt)}` : "no end"}
            </span>
          </>
        )}
      </Listed>
      <form className="grid gap-2 px-4 py-3" onSubmit={form.handleSubmit((v) => make.mutate(v))}>
        <div className="grid gap-3 sm:grid-cols-2">
          <Field label="New token for" hint="What will use it; good for a year." faults={p?.at("name")}>
            {(id) => <input id={id} className={inputLook} {...form.register("name")} />}
          </Field>
          <Field label="Which may act as" hint="Never more than its person may." faults={p?.at("role")}>
            {(id) => <RoleSelect id={id} {...form.register("role")} />}
          </Field>
        </div>
        {make.data && (
          <div className="rounded bg-good-bg px-2.5 py-1.5 text-good-ink text-xs">
            Shown once: <code className="select-all break-all">{make.data.secret}</code>
          </div>
        )}
        <Fault of={q.error ?? revoke.error ?? (make.error && !p?.errors.length ? make.error : undefined)} />
        <Button type="submit" className="justify-self-start" disabled={make.isPending}>
          Make a token
        </Button>
      </form>
    </Card>
  );
}
